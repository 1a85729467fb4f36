//go:build !linux

package workspace

// readFolder gives the entries of a folder, unsorted, with their types.
func readFolder(abs string) ([]entry, error) { return entriesOf(abs) }
