package problem

import (
	"fmt"
	"strings"
)

// GNU returns the problem in the form of the GNU Coding Standards (section
// "Formatting Error Messages"): file:line:column: severity: message [code].
func (p *Problem) GNU() string {
	var b strings.Builder
	if place := p.Place.String(); place != "" {
		b.WriteString(place + ": ")
	}
	fmt.Fprintf(&b, "%s: %s", p.Severity, strings.Join(strings.Fields(p.Message), " "))
	if p.Code != "" {
		fmt.Fprintf(&b, " [%s]", p.Code)
	}
	return b.String()
}

// String returns the problem as GNU does.
func (p *Problem) String() string { return p.GNU() }
