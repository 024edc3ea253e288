package store

// Package is the record of a package. How far it is stands in the job with the same id.
type Package struct {
	ID       string
	Template string
	Version  int    // number of the template's version
	Content  string // template.Version
	Files    int
	Bytes    int64
	SHA256   string
	Release  int    // of which the kits are; 0 for none
	Way      string // of kits; blank for a template's forms
	Client   string // for which the kits are; blank for any that takes the way
	Audience string // blank for everybody
	Person   string // mail address; blank for more than one
	Job      Job
}

const packageQuery = `SELECT p.id, p.template, p.version, p.content, p.files, p.bytes, p.sha256, p.release_id, ` +
	`p.way, p.client, p.audience, p.person, ` +
	jobColumns +
	` FROM packages p JOIN jobs j ON j.id = p.id`

// scanPackage reads a row of packages joined with its job.
func scanPackage(row scanner) (Package, error) {
	var p Package
	job, err := scanJob(prefixed{row, []any{&p.ID, &p.Template, &p.Version, &p.Content, &p.Files, &p.Bytes, &p.SHA256,
		&p.Release, &p.Way, &p.Client,
		&p.Audience, &p.Person}})
	p.Job = job
	return p, err
}

// prefixed is a row whose first columns are read into other places.
type prefixed struct {
	row   scanner
	first []any
}

func (p prefixed) Scan(into ...any) error { return p.row.Scan(append(p.first, into...)...) }

// AddPackage stores a package's record beside its job.
func (tx *Tx) AddPackage(p Package) error {
	_, err := tx.exec(`INSERT INTO packages (id, template, version, content, files, bytes, sha256, release_id, way, client, audience, person)
		VALUES (?, ?, ?, ?, 0, 0, '', ?, ?, ?, ?, ?)`, p.ID, p.Template, p.Version, p.Content, p.Release, p.Way, p.Client, p.Audience, p.Person)
	return err
}

// FinishPackage stores what a package holds.
func (tx *Tx) FinishPackage(id string, files int, bytes int64, sha256 string) error {
	err := tx.execOne("package", id, `UPDATE packages SET files = ?, bytes = ?, sha256 = ? WHERE id = ?`, files, bytes, sha256, id)
	if err != nil {
		return err
	}
	return tx.changed("made", "package", id, sha256)
}

// Package returns one package's record.
func (tx *Tx) Package(id string) (Package, error) {
	p, err := scanPackage(tx.row(packageQuery+` WHERE p.id = ?`, id))
	return p, missing("package", id, err)
}

// Packages lists the packages, newest first.
func (tx *Tx) Packages() ([]Package, error) {
	return list(tx, scanPackage, packageQuery+` ORDER BY j.created_at DESC, j.rowid DESC`)
}

// RemovePackage removes a package's record and its job.
func (tx *Tx) RemovePackage(id string) error {
	if err := tx.execOne("package", id, `DELETE FROM packages WHERE id = ?`, id); err != nil {
		return err
	}
	if err := tx.removeJob(id); err != nil {
		return err
	}
	return tx.removed("package", id, "")
}
