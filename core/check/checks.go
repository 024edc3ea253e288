package check

import (
	"slices"
)

// Checks lists all checks in the order in which documents show them.
func Checks() []*Check { return checks }

// Find returns the check with an id, or nil.
func Find(id string) *Check {
	for _, c := range checks {
		if c.ID == id {
			return c
		}
	}
	return nil
}

var checks = slices.Concat(structureChecks, fieldChecks, layoutChecks, styleChecks, pictureChecks, linkChecks, mistakeChecks,
	leftoverChecks, writtenChecks, accessChecks)
