package task

import "fmt"

// Fault says what could not be read, where, and what to do about it. Line and
// Column count from 1; 0 is not known.
type Fault struct {
	File    string `json:"file"`
	Line    int    `json:"line,omitempty"`
	Column  int    `json:"column,omitempty"`
	Message string `json:"message"`
	// Limit reports that reading stopped or had to guess here; the file need not be wrong.
	Limit bool `json:"limit,omitempty"`
}

func (f Fault) String() string {
	switch {
	case f.Line == 0:
		return fmt.Sprintf("%s: %s", f.File, f.Message)
	case f.Column == 0:
		return fmt.Sprintf("%s:%d: %s", f.File, f.Line, f.Message)
	}
	return fmt.Sprintf("%s:%d:%d: %s", f.File, f.Line, f.Column, f.Message)
}
