package sieve

// families lists what is recognised, the more specific first: where two
// families could take a line, the one that stands higher gets it.
var families []family

func init() {
	families = []family{
		{"tsc", colonDigit | parenDigit, "e", func() scanner { return &tscScanner{self: familyIndex("tsc")} }},
		{"gotest", colonDigit, "-=FWpgo", func() scanner { return &gotestScanner{self: familyIndex("gotest")} }},
		{"go", colonDigit, "#", func() scanner { return &goScanner{self: familyIndex("go")} }},
		{"make", colonDigit, "mgn", func() scanner { return &makeScanner{self: familyIndex("make")} }},
		{"ld", colonSpace, "(c", func() scanner { return &ldScanner{self: familyIndex("ld")} }},
		{"gnu", colonDigit | parenDigit, "", func() scanner { return &gnuScanner{self: familyIndex("gnu")} }},
	}
	for i, f := range families {
		wantedTraits |= f.traits
		familyFirst = append(familyFirst, [256]bool{})
		for _, c := range []byte(f.first) {
			familyFirst[i][c] = true
			wantedFirst[c] = true
		}
	}
}

var (
	wantedTraits traits
	wantedFirst  [256]bool
	familyFirst  [][256]bool
)

// Families names what is recognised, in order of precedence.
func Families() []string {
	names := make([]string, len(families))
	for i, f := range families {
		names[i] = f.name
	}
	return names
}

func familyIndex(name string) int {
	for i, f := range families {
		if f.name == name {
			return i
		}
	}
	panic("sieve: no family " + name)
}
