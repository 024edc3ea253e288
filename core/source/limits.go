package source

// Limits are the limits of a source in words, for the reference.
func Limits() map[string]int {
	return map[string]int{
		"columns": maxColumns, "people": MaxRows, "values, people times columns": maxValues, "bytes of one value": maxValue,
		"bytes of one row": maxRow, "rows that cannot be read": maxBad, "bytes of a mapping": maxMapping,
		"codes of a lookup": maxCodes, "bytes of a vCard": maxCard, "members of all groups": maxMembers,
		"groups of one person": maxGroups, "values of one LDIF entry": maxLines,
		"bytes of one LDIF entry": maxLine,
	}
}
