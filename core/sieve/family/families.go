package family

import (
	"slices"
	"strings"

	"tidytally/core/sieve"
)

// All are the built-in families and documents.
var All = sieve.NewSet(families, documents)

// families lists the built-in families. If two could take a line, the first one gets
// it, so the more specific comes first.
var families = []sieve.Family{
	packageFamily,
	checkersFamily,
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
	ctestFamily,
	xmlFamily,
	latexFamily,
	rspecFamily,
	minitestFamily,
	phpunitFamily,
	specsFamily,
	bundleFamily,
	boxedFamily,
	nodetestFamily,
	nodeFamily,
	rubyFamily,
	scriptFamily,
	makeFamily,
	sanitizerFamily,
	ldFamily,
	onelineFamily,
	belowFamily,
	gnuFamily,
}

// documents lists the forms of documents, the more specific first.
var documents = []sieve.Document{
	sarifDocument,
	gotestDocument,
	cargoDocument,
	rustcDocument,
	configurationList,
	configurationLine,
	flatObject,
	commentsDocument,
	eslintDocument,
	gccDocument,
	flatList,
	locatedList,
	junitDocument,
}

// beforeStar returns the parts of phrases before the star.
func beforeStar(lists ...[]string) (beginnings []string) {
	for _, phrase := range slices.Concat(lists...) {
		before, _, _ := strings.Cut(phrase, "*")
		beginnings = append(beginnings, before)
	}
	return beginnings
}
