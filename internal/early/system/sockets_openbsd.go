package system

// Listening returns nothing: fstat(1) is not asked.
func Listening([]int) []int { return nil }
