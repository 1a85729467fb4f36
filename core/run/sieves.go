package run

import (
	"slices"

	"tidytally/core/sieve"
	"tidytally/core/tallyfile"
)

// Rules gives a sieve of a tally file in the form that output is put through.
func Rules(s tallyfile.Sieve) sieve.Rules {
	r := sieve.Rules{Name: s.Name, Begin: s.Begin, End: s.End, Severities: s.Severities}
	for _, l := range s.Lines {
		r.Lines = append(r.Lines, sieve.Rule{Match: l.Match, Repeat: l.Repeat})
	}
	return r
}

// Sieves chooses what an output goes through: the tally files' sieves and the
// families that are named, or, where none is or all are asked for, all but the
// private ones. Families is nil for all.
func Sieves(own []tallyfile.Sieve, named []string) (rules []sieve.Rules, families []string) {
	all := len(named) == 0 || slices.Contains(named, tallyfile.AllSieves)
	for _, s := range own {
		if slices.Contains(named, s.Name) || all && !s.Private {
			rules = append(rules, Rules(s))
		}
	}
	if all {
		return rules, nil
	}
	families = []string{}
	for _, name := range sieve.Families() {
		if slices.Contains(named, name) {
			families = append(families, name)
		}
	}
	return rules, families
}
