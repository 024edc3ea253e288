package person

// Limits are the limits of a CSV file in words, for the reference.
func Limits() map[string]int {
	return map[string]int{
		"columns": maxColumns, "people": MaxRows, "values, people times columns": maxValues, "bytes of one value": maxValue,
		"bytes of one row": maxRow, "rows that cannot be read": maxBad,
	}
}
