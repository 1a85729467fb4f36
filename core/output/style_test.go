package output

import "testing"

// A parameter is a number: compilers write bold as 01.
func TestParametersWithLeadingZeros(t *testing.T) {
	var s Style
	s.apply("01;031")
	if got := s.From(Style{}); got != "\x1b[1;31m" {
		t.Errorf("01;031 is %q", got)
	}
	if s.apply("022"); s.Attributes != 0 {
		t.Errorf("022 leaves %v", s.Attributes)
	}
}
