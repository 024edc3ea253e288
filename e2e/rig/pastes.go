package rig

import (
	_ "embed"
	"strings"
)

//go:embed pastes.txt
var pastes string

// Pastes are small pieces of markup and whole signatures in many manners, whose pastes are predicted letter by letter.
func Pastes() []string { return strings.Split(strings.TrimSuffix(pastes, "\n"), "\n====\n") }
