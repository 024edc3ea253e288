// Package problem is the one kind of error that callers decide on: what went wrong, of which kind, and where. It is
// made where the cause is known and translated once at each door: to a problem document (RFC 9457) by the service, to
// an exit status by the commands. Everything else is an error of the program itself. Start with New and Of.
package problem

import (
	"errors"
	"fmt"
)

// Kind says what a caller can do about an error.
type Kind string

// The kinds.
const (
	NotFound    Kind = "not found"   // there is no such thing
	Gone        Kind = "gone"        // there was such a thing, and it was taken back
	Conflict    Kind = "conflict"    // it was changed meanwhile, or it is not in a state for this
	Invalid     Kind = "invalid"     // the request makes no sense; something named in it is wrong
	Refused     Kind = "refused"     // understood, but the content is not accepted
	TooLarge    Kind = "too large"   // above a stated limit
	Busy        Kind = "busy"        // possible, but not now
	Full        Kind = "full"        // no room on the disk
	Unavailable Kind = "unavailable" // a program that this needs is not installed
	Unknown     Kind = "unknown"     // who acts is not known: signing in, or a key, is needed
	Forbidden   Kind = "forbidden"   // who acts is known and may not do this
	TooOften    Kind = "too often"   // tried too often with the wrong answer
)

// Place is where in a text the cause stands.
type Place struct {
	File    string   `json:"file,omitempty"` // empty for a template's source
	Line    int      `json:"line"`           // from 1
	Column  int      `json:"column"`         // from 1, in characters
	Offset  int      `json:"offset"`         // bytes
	End     int      `json:"end"`            // byte offset behind it
	Message string   `json:"message"`
	Nearest []string `json:"nearest,omitempty"` // what was probably meant
}

// Error is an error with a kind. Its message is a sentence for people.
type Error struct {
	Kind    Kind
	Message string
	Field   string  // the member of the request or the flag that is wrong; empty for none
	Places  []Place // where in a text; empty for nowhere
	cause   error
}

// New makes an error of a kind. The message is built as by fmt.Errorf; an error given with %w can be found again with
// errors.Is and errors.As.
func New(kind Kind, format string, args ...any) *Error {
	err := fmt.Errorf(format, args...)
	return &Error{Kind: kind, Message: err.Error(), cause: err}
}

// Missing says that there is no thing of that name, such as Missing("template", "harbor").
func Missing(what, name string) *Error {
	return New(NotFound, "There is no %s %q.", what, name)
}

// As gives an error a kind and keeps its message; nil stays nil. An error that has a kind keeps its own.
func As(kind Kind, err error) error {
	if err == nil {
		return nil
	}
	if _, ok := Of(err); ok {
		return err
	}
	return &Error{Kind: kind, Message: err.Error(), cause: err}
}

// In says which member of a request is wrong.
func (e *Error) In(field string) *Error {
	e.Field = field
	return e
}

// At says where in a text the cause stands.
func (e *Error) At(places ...Place) *Error {
	e.Places = places
	return e
}

func (e *Error) Error() string { return e.Message }

func (e *Error) Unwrap() error { return e.cause }

// Problem makes Error one that Of finds.
func (e *Error) Problem() *Error { return e }

// Of finds the error with a kind in a chain of errors. Errors of other packages take part by a method Problem.
func Of(err error) (*Error, bool) {
	var known interface {
		error
		Problem() *Error
	}
	if errors.As(err, &known) {
		return known.Problem(), true
	}
	return nil, false
}

// Is reports whether an error is of a kind.
func Is(err error, kind Kind) bool {
	e, ok := Of(err)
	return ok && e.Kind == kind
}
