package access

import "slices"

// Role is what a person's account may do. An account has one or more.
type Role string

// The roles. Each may look at everything that is not about access itself.
const (
	Viewer        Role = "viewer"
	Author        Role = "author"
	Approver      Role = "approver"
	Administrator Role = "administrator"
)

// Roles lists the roles.
func Roles() []Role { return []Role{Viewer, Author, Approver, Administrator} }

// Scope is what a key may be used for. A key has one or more.
type Scope string

// The scopes.
const (
	APIRead   Scope = "api:read"
	APIWrite  Scope = "api:write"
	Directory Scope = "directory"
	Desk      Scope = "desk"
	Gateway   Scope = "gateway"
	Metrics   Scope = "metrics"
)

// Scopes lists the scopes.
func Scopes() []Scope { return []Scope{APIRead, APIWrite, Directory, Desk, Gateway, Metrics} }

// Permission is what a route of the interface needs. Which roles and scopes have it is in Permissions.
type Permission string

// The permissions.
const (
	Open        Permission = "open"
	Self        Permission = "self"
	Own         Permission = "own"
	View        Permission = "view"
	Trust       Permission = "trust"
	Templates   Permission = "templates"
	Pictures    Permission = "pictures"
	Clients     Permission = "clients"
	Packages    Permission = "packages"
	Releases    Permission = "releases"
	Approve     Permission = "approve"
	Send        Permission = "send"
	People      Permission = "people"
	MailRules   Permission = "mail-rules"
	Desks       Permission = "desks"
	Settings    Permission = "settings"
	Accounts    Permission = "accounts"
	Keys        Permission = "keys"
	Record      Permission = "record"
	Figures     Permission = "metrics"
	AsDirectory Permission = "as-directory"
	AsDesk      Permission = "as-desk"
	AsAddOn     Permission = "as-add-on"
	AsGateway   Permission = "as-gateway"
)

// Grant says who has a permission.
type Grant struct {
	Permission Permission `json:"permission"`
	Allows     string     `json:"allows"` // what it is for, in words
	Roles      []Role     `json:"roles"`
	Scopes     []Scope    `json:"scopes"`
	People     bool       `json:"people"` // keys have it only with the account of a person behind them
}

var (
	everyRole = Roles()
	makers    = []Role{Author, Administrator}
	admins    = []Role{Administrator}
	reading   = []Scope{APIRead, APIWrite}
	writing   = []Scope{APIWrite}
)

// permissions is the one table of who may do what.
var permissions = []Grant{
	{Open, "signing in, and whether the service runs", nil, nil, false},
	{Self, "seeing who one is; one's own password, second factor and keys", everyRole, reading, false},
	{Own, "the page of one's own signature; a personal link opens it too", everyRole, nil, false},
	{View, "looking at everything but accounts, keys and the record; checking and filling drafts, which changes nothing",
		everyRole, reading, false},
	{Trust, "the public key that kits and bundles are signed with", everyRole, append([]Scope{Desk, Gateway}, reading...), false},
	{Templates, "saving templates and what belongs to them", []Role{Author}, writing, false},
	{Pictures, "saving pictures, making files of them, checking addresses", []Role{Author}, writing, false},
	{Clients, "the organisation's own client profiles and dialects", makers, writing, false},
	{Packages, "making and removing packages; stopping jobs", makers, writing, false},
	{Releases, "making releases, and removing those that never went out", makers, writing, false},
	{Approve, "approving releases with the mail rules in them", []Role{Approver}, writing, true},
	{Send, "sending releases in waves, pausing and withdrawing them", []Role{Approver, Administrator}, writing, false},
	{People, "people, sources, runs, audiences and assignments", admins, writing, false},
	{MailRules, "saving, rehearsing and pausing the mail rules", admins, writing, false},
	{Desks, "removing desks", admins, writing, false},
	{Settings, "settings of the organisation, of pictures, releases and messages", admins, writing, false},
	{Accounts, "accounts and their roles", admins, writing, true},
	{Keys, "keys of programs", admins, writing, true},
	{Record, "the record of who did what", []Role{Approver, Administrator}, writing, true},
	{Figures, "figures for whatever watches services", admins, []Scope{Metrics}, false},
	{AsDirectory, "pushing people in (SCIM)", nil, []Scope{Directory}, false},
	{AsDesk, "fetching kits and reporting from a desk", nil, []Scope{Desk}, false},
	{AsAddOn, "fetching one's own signatures, and reporting, as the browser add-on: with its key alone", nil, nil, false},
	{AsGateway, "fetching the bundle of rules and reporting what was done with messages", admins, []Scope{Gateway}, false},
}

// Permissions lists who has which permission.
func Permissions() []Grant { return slices.Clone(permissions) }

// GrantOf is who has a permission; nobody has one that is not known.
func GrantOf(p Permission) Grant {
	for _, g := range permissions {
		if g.Permission == p {
			return g
		}
	}
	return Grant{Permission: p}
}

// Rights are what somebody may do: an account by its roles, a key by its scopes, a key of an account by what both allow.
type Rights struct {
	All    bool // whoever uses the machine, while there are no accounts
	Person bool // there is an account
	Roles  []Role
	Key    bool // a key is used
	Scopes []Scope
	Link   bool // a personal link was opened on this device: nothing but the page of one's own signature
	AddOn  bool // the key of a person's add-on: nothing but what the add-on needs
}

// May reports whether rights hold a permission.
func (r Rights) May(p Permission) bool {
	if p == Open {
		return true
	}
	if r.Link {
		return p == Own
	}
	if r.AddOn || p == AsAddOn {
		return r.AddOn && p == AsAddOn
	}
	if r.All {
		return p != AsDirectory && p != AsDesk // these are for programs, whose key says for which source, or is counted
	}
	g := GrantOf(p)
	if r.Person && !share(g.Roles, r.Roles) {
		return false
	}
	if r.Key && !share(g.Scopes, r.Scopes) {
		return false
	}
	return r.Person || r.Key && !g.People
}

func share[T comparable](a, b []T) bool {
	return slices.ContainsFunc(a, func(one T) bool { return slices.Contains(b, one) })
}

// Held lists the permissions that rights hold.
func (r Rights) Held() []Permission {
	var held []Permission
	for _, g := range permissions {
		if r.May(g.Permission) {
			held = append(held, g.Permission)
		}
	}
	return held
}
