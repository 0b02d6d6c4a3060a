package clone

// InPartsOf has tables loaded in parts of so many rows, and gives what ends that.
func InPartsOf(rows int) func() {
	was := partRows
	partRows = rows
	return func() { partRows = was }
}
