// Package config reads the settings with which the service runs: from what is built in, a file, the environment and flags,
// each over the one before, and says where each came from. Start with Load; settings.go lists the settings.
package config

import "strings"

// Kind is what a setting holds.
type Kind string

// The kinds. In the environment and on a command line the parts of a list are separated by commas.
const (
	Text     Kind = "text"
	List     Kind = "list"
	Number   Kind = "number"
	Switch   Kind = "switch"
	Duration Kind = "duration" // such as 90s, 30m, 12h
)

// Setting is one setting.
type Setting struct {
	Name    string // in the file, with a dot for each level: tls.certificate
	Kind    Kind
	Default any // string, []string, int, bool; a duration as its text
	Doc     string
	Example string // of a value; blank where the default shows it
	Choices []string
	Secret  bool // it is not printed, and can be read from the file that Name-file names
}

// Flag is the setting's flag, without hyphens before it.
func (s Setting) Flag() string { return strings.ReplaceAll(s.Name, ".", "-") }

// Env is the setting's name in the environment.
func (s Setting) Env() string {
	return "MISSIVUM_" + strings.ToUpper(strings.NewReplacer(".", "_", "-", "_").Replace(s.Name))
}

// list is every setting, in the order in which they are shown.
var list = []Setting{
	{Name: "listen", Kind: Text, Default: "127.0.0.1:8425",
		Doc: "where the service listens; port 0 takes a free one. An address that others can reach needs tls or proxies, and accounts."},
	{Name: "data", Kind: Text, Default: "missivum-data", Doc: "folder for the database, pictures, packages and secrets"},
	{Name: "address", Kind: Text, Default: "", Example: "https://signatures.brackwater.example",
		Doc: "address under which people reach the service, for links; blank for the one that they use"},
	{Name: "names", Kind: List, Default: []string{}, Example: "signatures.brackwater.example",
		Doc: "hosts that the service answers to, beside the one of address and loopback"},
	{Name: "log", Kind: Text, Default: "text", Choices: []string{"text", "json"}, Doc: "form of the log on standard error"},

	{Name: "tls.certificate", Kind: Text, Default: "", Example: "/etc/missivum/certificate.pem",
		Doc: "certificate with its chain, in PEM; read anew when it changes"},
	{Name: "tls.key", Kind: Text, Default: "", Example: "/etc/missivum/key.pem", Doc: "its key"},
	{Name: "tls.acme", Kind: Switch, Default: false,
		Doc: "get a certificate for names and address by ACME (RFC 8555); needs tls.redirect on port 80 or listen on port 443"},
	{Name: "tls.acme-directory", Kind: Text, Default: "", Example: "https://ca.brackwater.example/directory",
		Doc: "directory of the authority; blank for the one that the library has built in"},
	{Name: "tls.redirect", Kind: Text, Default: "", Example: "0.0.0.0:80",
		Doc: "where HTTP is answered with a redirect to HTTPS and with nothing else"},
	{Name: "proxies", Kind: List, Default: []string{}, Example: "10.20.0.5",
		Doc: "addresses or networks of proxies before the service. Requests come from there only, and their forwarded headers are believed."},

	{Name: "sessions.idle", Kind: Duration, Default: "2h", Doc: "after which a session ends that is not used"},
	{Name: "sessions.lifetime", Kind: Duration, Default: "12h", Doc: "after which every session ends"},

	{Name: "provider.issuer", Kind: Text, Default: "", Example: "https://identity.brackwater.example",
		Doc: "identity provider at which people can sign in (OpenID Connect), beside passwords"},
	{Name: "provider.title", Kind: Text, Default: "the identity provider", Example: "Brackwater identity",
		Doc: "how the sign-in page calls it"},
	{Name: "provider.client", Kind: Text, Default: "", Example: "missivum", Doc: "name with which it knows this service"},
	{Name: "provider.secret", Kind: Text, Default: "", Secret: true, Doc: "secret that it gave for that name; blank for none"},
	{Name: "provider.scopes", Kind: List, Default: []string{"profile", "email"}, Doc: "what is asked for, beside openid"},
	{Name: "provider.name-claim", Kind: Text, Default: "email",
		Doc: "claim that is the account's name; email counts only where email_verified says so"},
	{Name: "provider.roles-claim", Kind: Text, Default: "groups", Doc: "claim whose values give roles, at each signing in"},
	{Name: "provider.roles", Kind: List, Default: []string{}, Example: "harbour-office=author, it=administrator",
		Doc: "the role for a value of that claim"},
	{Name: "provider.everybody", Kind: Text, Default: "", Choices: []string{"", "viewer", "author", "approver", "administrator"},
		Doc: "role of those whose claim gives none; blank: they are refused"},

	{Name: "backup.folder", Kind: Text, Default: "", Example: "/srv/backup",
		Doc: "folder into which the service makes backups by itself, best on another disk; blank for none"},
	{Name: "backup.every", Kind: Duration, Default: "24h",
		Doc: "how often. Kept are all of the last two days, then the last of each day for two weeks, of each week " +
			"for two months, and of each month for two years."},

	{Name: "metrics.listen", Kind: Text, Default: "", Example: "127.0.0.1:9425",
		Doc: "where health, readiness and figures are answered without a key, and nothing else"},

	{Name: "pictures.listen", Kind: Text, Default: "", Example: "0.0.0.0:8426",
		Doc: "where nothing but hosted pictures is served, for the public"},
	{Name: "pictures.tree", Kind: Text, Default: "", Example: "/srv/pictures",
		Doc: "folder in which hosted pictures are kept for a static web server"},
	{Name: "pictures.allow", Kind: List, Default: []string{}, Example: "10.20.0.0/16",
		Doc: "private networks that the check of picture addresses may ask"},

	{Name: "invitations.server", Kind: Text, Default: "", Example: "mail.brackwater.example:587",
		Doc: "mail server that takes invitations to the page of one's own signature; blank for none"},
	{Name: "invitations.encrypt", Kind: Text, Default: "starttls", Choices: []string{"starttls", "tls", "none"}, Doc: "how it is spoken to"},
	{Name: "invitations.user", Kind: Text, Default: "", Example: "signatures@brackwater.example", Doc: "name to sign in with; blank for none"},
	{Name: "invitations.password", Kind: Text, Default: "", Secret: true, Doc: "password for that name"},
	{Name: "invitations.ca", Kind: Text, Default: "", Example: "/etc/missivum/ca.pem",
		Doc: "certificates of authorities for that server; blank for the system's"},

	{Name: "mail.milter", Kind: Text, Default: "", Example: "unix:/run/missivum/milter.sock", Doc: "where the milter listens"},
	{Name: "mail.smtp", Kind: Text, Default: "", Example: "127.0.0.1:10025", Doc: "where the SMTP relay listens"},
	{Name: "mail.next", Kind: Text, Default: "", Example: "127.0.0.1:10026", Doc: "server that the relay gives messages to"},
	{Name: "mail.allow", Kind: List, Default: []string{}, Example: "10.20.0.25",
		Doc: "addresses or networks of mail servers that may connect; empty for loopback and unix sockets"},
	{Name: "mail.max-size", Kind: Number, Default: 50,
		Doc: "MB of a message; larger ones pass the milter unchanged and are refused by the relay"},
	{Name: "mail.name", Kind: Text, Default: "", Example: "mx1.brackwater.example",
		Doc: "how the gateway calls itself; blank for the host's name"},
	{Name: "mail.tls-certificate", Kind: Text, Default: "", Example: "/etc/missivum/mail.pem",
		Doc: "certificate with which the relay offers STARTTLS"},
	{Name: "mail.tls-key", Kind: Text, Default: "", Example: "/etc/missivum/mail.key", Doc: "its key"},
	{Name: "mail.client-keys", Kind: Text, Default: "", Example: "/etc/missivum/relay-clients",
		Doc: "file with a line NAME:KEY for each client of the relay, which must then sign in"},
	{Name: "mail.next-tls", Kind: Switch, Default: false, Doc: "encrypt towards the next server with STARTTLS"},
	{Name: "mail.next-ca", Kind: Text, Default: "", Example: "/etc/missivum/ca.pem",
		Doc: "certificates of authorities for that; blank for the system's"},
	{Name: "mail.next-name", Kind: Text, Default: "", Example: "mail.brackwater.example",
		Doc: "name in the next server's certificate; blank for its host"},
}

// Settings lists the settings, each secret followed by the one that names a file with it.
func Settings() []Setting { return all() }

// Find is the setting of a name; false when there is none.
func Find(name string) (Setting, bool) {
	for _, s := range all() {
		if s.Name == name {
			return s, true
		}
	}
	return Setting{}, false
}
