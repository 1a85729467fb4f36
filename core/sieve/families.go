package sieve

import "slices"

// families lists what is recognised, the more specific first: where two
// families could take a line, the one that stands higher gets it.
var families []family

func init() {
	families = []family{
		{name: "tsc", traits: colonDigit | parenDigit, first: "e[0123456789", make: func(self int) scanner { return &tscScanner{self: self} }},
		{name: "rust", first: "ewt", make: func(self int) scanner { return &rustScanner{self: self} }},
		{name: "gotest", traits: colonDigit, first: "-=FWpgo", make: func(self int) scanner { return &gotestScanner{self: self} }},
		{name: "go", traits: colonDigit, first: "#", make: func(self int) scanner { return &goScanner{self: self} }},
		{name: "python", traits: colonDigit, first: "TE F", make: func(self int) scanner { return &pythonScanner{self: self} }},
		{name: "pycheck", traits: colonDigit, make: func(self int) scanner { return &pycheckScanner{self: self} }},
		{name: "java", traits: colonDigit, first: "[ewE", make: func(self int) scanner { return &javaScanner{self: self} }},
		{name: "tap", first: "nB ", make: func(self int) scanner { return &tapScanner{self: self} }},
		{name: "blocks", traits: colonDigit, make: func(self int) scanner { return &blocksScanner{self: self} }},
		{name: "fortran", traits: colonDigit, make: func(self int) scanner { return &fortranScanner{self: self} }},
		{name: "ghc", traits: colonDigit | parenDigit, make: func(self int) scanner { return &ghcScanner{self: self} }},
		{name: "ocaml", first: "F", make: func(self int) scanner { return &ocamlScanner{self: self} }},
		{name: "shellcheck", first: "I", make: func(self int) scanner { return &shellcheckScanner{self: self} }},
		{name: "cmake", first: "C", make: func(self int) scanner { return &cmakeScanner{self: self} }},
		{name: "xml", traits: colonDigit, make: func(self int) scanner { return &xmlScanner{self: self} }},
		{name: "node", traits: colonDigit, make: func(self int) scanner { return &nodeScanner{self: self} }},
		{name: "script", traits: colonDigit | colonSpace | lineStop, first: "P", make: func(self int) scanner { return &scriptScanner{self: self} }},
		{name: "make", traits: colonDigit, first: "mgnF", make: func(self int) scanner { return &makeScanner{self: self} }},
		{name: "ld", traits: colonSpace, first: "(c", make: func(self int) scanner { return &ldScanner{self: self} }},
		{name: "oneline", traits: colonDigit | parenDigit, make: func(self int) scanner { return &onelineScanner{self: self} }},
		{name: "below", first: "E\xe2W DC", make: func(self int) scanner { return &belowScanner{self: self} }},
		{name: "gnu", traits: colonDigit | parenDigit, make: func(self int) scanner { return &gnuScanner{self: self} }},
	}
}

// Families names what is recognised, in order of precedence.
func Families() []string {
	names := make([]string, len(families))
	for i, f := range families {
		names[i] = f.name
	}
	return names
}

// choose gives the families of one engine: the user's own sieves, then those
// that are built in, or of these the ones named in only.
func choose(own []Rules, only []string) []family {
	if len(own) == 0 && only == nil {
		return families
	}
	var chosen []family
	for i := range own[:min(len(own), maxFamilies-len(families))] {
		chosen = append(chosen, family{name: own[i].Name, every: true, make: func(self int) scanner { return &ownScanner{self: self, rules: &own[i]} }})
	}
	for _, f := range families {
		if only == nil || slices.Contains(only, f.name) {
			chosen = append(chosen, f)
		}
	}
	return chosen
}
