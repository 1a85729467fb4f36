package sieve

// families lists what is recognised, the more specific first: where two
// families could take a line, the one that stands higher gets it.
var families []family

func init() {
	families = []family{
		{"tsc", colonDigit | parenDigit, "e", func(self int) scanner { return &tscScanner{self: self} }},
		{"rust", 0, "ewt", func(self int) scanner { return &rustScanner{self: self} }},
		{"gotest", colonDigit, "-=FWpgo", func(self int) scanner { return &gotestScanner{self: self} }},
		{"go", colonDigit, "#", func(self int) scanner { return &goScanner{self: self} }},
		{"python", colonDigit, "TE F", func(self int) scanner { return &pythonScanner{self: self} }},
		{"pycheck", colonDigit, "", func(self int) scanner { return &pycheckScanner{self: self} }},
		{"java", colonDigit, "[ewE", func(self int) scanner { return &javaScanner{self: self} }},
		{"blocks", colonDigit, "", func(self int) scanner { return &blocksScanner{self: self} }},
		{"fortran", colonDigit, "", func(self int) scanner { return &fortranScanner{self: self} }},
		{"ghc", colonDigit | parenDigit, "", func(self int) scanner { return &ghcScanner{self: self} }},
		{"ocaml", 0, "F", func(self int) scanner { return &ocamlScanner{self: self} }},
		{"shellcheck", 0, "I", func(self int) scanner { return &shellcheckScanner{self: self} }},
		{"cmake", 0, "C", func(self int) scanner { return &cmakeScanner{self: self} }},
		{"xml", colonDigit, "", func(self int) scanner { return &xmlScanner{self: self} }},
		{"node", colonDigit, "", func(self int) scanner { return &nodeScanner{self: self} }},
		{"script", colonDigit | colonSpace | lineStop, "P", func(self int) scanner { return &scriptScanner{self: self} }},
		{"make", colonDigit, "mgn", func(self int) scanner { return &makeScanner{self: self} }},
		{"ld", colonSpace, "(c", func(self int) scanner { return &ldScanner{self: self} }},
		{"gnu", colonDigit | parenDigit, "", func(self int) scanner { return &gnuScanner{self: self} }},
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
