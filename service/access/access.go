// Package access says who acts and what they may do. A principal is put into the context where a request or a command
// comes in, with where it came from and the rights it has; the store records who and from where with every change. Start
// with Principal and With; permissions.go has the table of permissions.
package access

import (
	"context"
	"os/user"
	"strings"
	"unicode"
)

// Kind is what a principal is.
type Kind string

// The kinds.
const (
	Owner   Kind = "owner"   // whoever uses the machine that the service listens on by loopback, while there are no accounts
	Account Kind = "account" // a person who has signed in, or a key of theirs
	Command Kind = "command" // somebody who ran a command on the service's own data
	Key     Kind = "key"     // a program that names itself with a key
	Person  Kind = "person"  // somebody on the page of their own signature, who came by a personal link
	Service Kind = "service" // the service itself: schedules, and what a restart cleans up
)

// Principal is somebody or something that acts.
type Principal struct {
	Kind Kind   `json:"kind"`
	Name string `json:"name"` // shown to people
}

// Loopback is the principal of requests while there are no accounts.
func Loopback() Principal { return Principal{Owner, "owner"} }

// ValidName reports whether a text can be the name of a principal: 1 to 100 letters that can be written, no space around.
func ValidName(name string) bool {
	if name == "" || len([]rune(name)) > 100 || strings.TrimSpace(name) != name {
		return false
	}
	return !strings.ContainsFunc(name, func(r rune) bool { return !unicode.IsPrint(r) })
}

// Itself is the principal of what the service does by itself; name is the part of it that acts, such as "address
// check".
func Itself(name string) Principal { return Principal{Service, name} }

// User is the principal of a command: the user of the operating system who ran it.
func User() Principal {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return Principal{Command, u.Username}
	}
	return Principal{Command, "command"}
}

// key and originKey keep others from reading the context's values by chance.
type (
	key       struct{}
	originKey struct{}
)

// FromWhere is a context of an address such as 192.0.2.7, kept with what the principal changes.
func FromWhere(ctx context.Context, address string) context.Context {
	return context.WithValue(ctx, originKey{}, address)
}

// Where is the address that the principal of a context acts from; blank for one on this machine.
func Where(ctx context.Context) string {
	address, _ := ctx.Value(originKey{}).(string)
	return address
}

// With is a context in which a principal acts.
func With(ctx context.Context, p Principal) context.Context { return context.WithValue(ctx, key{}, p) }

// From is the principal that acts in a context; false when nobody was put there, in which case nothing may be changed.
func From(ctx context.Context) (Principal, bool) {
	p, ok := ctx.Value(key{}).(Principal)
	return p, ok && p.Kind != "" && p.Name != ""
}
