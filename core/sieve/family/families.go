package family

import (
	"slices"
	"strings"
	"tidytally/core/sieve"
)

// All are the families and documents that are built in.
var All = sieve.NewSet(families, documents)

// families lists what is recognised, the more specific first: where two
// families could take a line, the one that stands higher gets it.
var families = []sieve.Family{
	tscFamily,
	beamFamily,
	zigFamily,
	rustFamily,
	gotestFamily,
	goFamily,
	pytestFamily,
	pythonFamily,
	pycheckFamily,
	javatraceFamily,
	javaFamily,
	tapFamily,
	blocksFamily,
	fortranFamily,
	ghcFamily,
	ocamlFamily,
	nimFamily,
	shellcheckFamily,
	cmakeFamily,
	xmlFamily,
	specsFamily,
	bundleFamily,
	boxedFamily,
	nodetestFamily,
	nodeFamily,
	scriptFamily,
	makeFamily,
	sanitizerFamily,
	ldFamily,
	onelineFamily,
	belowFamily,
	gnuFamily,
}

// documents lists the forms of documents that are read, the more specific first.
var documents = []sieve.Document{
	sarifDocument,
	gotestDocument,
	cargoDocument,
	rustcDocument,
	configurationList,
	configurationLine,
	flatObject,
	eslintDocument,
	gccDocument,
	flatList,
	locatedList,
	junitDocument,
}

// beforeStar returns the beginnings of phrases.
func beforeStar(lists ...[]string) (beginnings []string) {
	for _, phrase := range slices.Concat(lists...) {
		before, _, _ := strings.Cut(phrase, "*")
		beginnings = append(beginnings, before)
	}
	return beginnings
}
