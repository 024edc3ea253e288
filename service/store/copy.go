package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"github.com/pressly/goose/v3"
)

// Copy writes a copy of a database to another file as it is at one moment, while others write to it, and without needing the
// service. The file must not be there yet.
func Copy(ctx context.Context, file, to string) error {
	db, err := openToRead(file)
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, `VACUUM INTO ?`, to)
	return errors.Join(err, db.Close())
}

func openToRead(file string) (*sql.DB, error) {
	db, err := sql.Open("sqlite", dsn(file)+"&mode=ro")
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

// Facts are what Examine finds out about a database.
type Facts struct {
	Schema    int64 // its version
	Known     int64 // the latest version that this program knows
	Faults    []string
	People    int64
	Templates int64
	Pictures  int64 // files of pictures
	Record    Checked
	Newest    time.Time // when the newest entry of the record was made
}

// mostFaults is how many faults of a database are listed.
const mostFaults = 10

// Examine looks through a database without changing it: whether the file is sound (SQLite's integrity check), references lead
// somewhere, the schema is one that this program knows, and the record is whole.
func Examine(ctx context.Context, file string) (f Facts, err error) {
	db, err := openToRead(file)
	if err != nil {
		return f, err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	tx, err := db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return f, err
	}
	defer tx.Rollback() // it changed nothing
	work := &Tx{ctx: ctx, tx: tx}
	said, err := list(work, scanText, `PRAGMA integrity_check(10)`)
	if err != nil {
		return f, fmt.Errorf("%s is no database that can be read: %w", file, err)
	}
	for _, line := range said {
		if line != "ok" {
			f.Faults = append(f.Faults, line)
		}
	}
	lost, err := list(work, func(row scanner) (string, error) {
		var table, parent string
		var id sql.NullInt64
		var key int
		err := row.Scan(&table, &id, &parent, &key)
		return fmt.Sprintf("row %d of %s names a row of %s that is not there", id.Int64, table, parent), err
	}, `PRAGMA foreign_key_check`)
	if err != nil {
		return f, err
	}
	f.Faults = append(f.Faults, lost[:min(len(lost), mostFaults)]...)
	if err := work.row(`SELECT COALESCE(MAX(version_id), 0) FROM goose_db_version`).Scan(&f.Schema); err != nil {
		return f, fmt.Errorf("%s is not a database of Missivum: %w", file, err)
	}
	if f.Known, err = latestSchema(); err != nil || f.Schema != f.Known {
		return f, err // what follows reads tables as they are now
	}
	var newest string
	if err := errors.Join(work.row(`SELECT COUNT(*) FROM people`).Scan(&f.People),
		work.row(`SELECT COUNT(*) FROM templates`).Scan(&f.Templates),
		work.row(`SELECT COALESCE(MAX(at), '') FROM record`).Scan(&newest)); err != nil {
		return f, err
	}
	f.Newest = parseStamp(newest)
	if f.Pictures, err = work.examinePictures(&f.Faults); err != nil {
		return f, err
	}
	f.Record, err = work.CheckRecord(0, nil)
	if f.Record.Broken > 0 {
		f.Faults, err = append(f.Faults, err.Error()), nil
	}
	return f, err
}

// examinePictures holds the files of pictures against the digests that they are named by.
func (tx *Tx) examinePictures(faults *[]string) (count int64, err error) {
	rows, err := tx.tx.QueryContext(tx.ctx, `SELECT sha256, data FROM picture_contents`)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		var data []byte
		if err := rows.Scan(&name, &data); err != nil {
			return count, err
		}
		count++
		if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != name && len(*faults) < mostFaults {
			*faults = append(*faults, "the picture file "+name+" is not as it was stored")
		}
	}
	return count, rows.Err()
}

// latestSchema is the newest version of the schema that this program knows.
func latestSchema() (int64, error) {
	names, err := fs.Glob(migrations, "migrations/*.sql")
	var latest int64
	for _, name := range names {
		version, failed := goose.NumericComponent(strings.TrimPrefix(name, "migrations/"))
		if failed != nil {
			return 0, failed
		}
		latest = max(latest, version)
	}
	return latest, err
}

// Head writes the number and link of the last entry as they are given to a later check.
func (c Checked) Head() string { return fmt.Sprintf("%d:%s", c.Last, hex.EncodeToString(c.Link)) }
