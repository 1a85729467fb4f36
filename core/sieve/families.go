package sieve

import (
	"slices"
	"strings"

	"tidytally/core/problem"
)

// families lists what is recognised, the more specific first: where two
// families could take a line, the one that stands higher gets it.
var families []family

func init() {
	families = []family{
		{name: "tsc", columns: problem.UTF16, traits: fullStop, make: func(self int) scanner { return &tscScanner{self: self} },
			leads: oneOf("error TS|warning TS|message TS"), behind: oneOf("error TS|warning TS|message TS"),
			endings: oneOf("ts|tsx|mts|cts|js|jsx|mjs|cjs|json|vue|svelte|astro")},
		{name: "beam", make: func(self int) scanner { return &beamScanner{self: self} },
			leads: oneOf("** ("), endings: oneOf("erl|hrl|yrl|xrl|ex|exs")},
		{name: "zig", columns: problem.Bytes, make: func(self int) scanner { return &zigScanner{self: self} }, leads: oneOf("thread |error: |FAIL ("), endings: oneOf("zig")},
		{name: "rust", make: func(self int) scanner { return &rustScanner{self: self} },
			leads: oneOf("error: |error[|warning: |warning[|thread '|note: test did not panic|Error: ")},
		{name: "gotest", columns: problem.Bytes, make: func(self int) scanner { return &gotestScanner{self: self} }, endings: oneOf("go"),
			leads: oneOf("=== |--- |panic: |fatal error: |WARNING: DATA RACE|FAIL|PASS|ok  \t"), indented: oneOf("--- ")},
		{name: "go", columns: problem.Bytes, make: func(self int) scanner { return &goScanner{self: self} },
			leads: oneOf("# |vet: "), endings: oneOf("go|s|mod|work")},
		{name: "pytest", make: func(self int) scanner { return &pytestScanner{self: self} }, leads: oneOf("===|E  ")},
		{name: "python", make: func(self int) scanner { return &pythonScanner{self: self} }, endings: oneOf("py"),
			leads: oneOf("Traceback (|File \"|Sorry: "), indented: []string{`File "`, "|", "+ Exception Group"}, behind: oneOf("Traceback (")},
		{name: "pycheck", make: func(self int) scanner { return &pycheckScanner{self: self} }, endings: oneOf("py|pyi")},
		{name: "javatrace", make: func(self int) scanner { return &javatraceScanner{self: self} }, leads: oneOf("Exception in thread \"|[ERROR] ")},
		{name: "java", columns: problem.UTF16, make: func(self int) scanner { return &javaScanner{self: self} },
			leads: oneOf("[ERROR] |[WARNING] |e: |w: "), endings: oneOf("java")},
		{name: "tap", make: func(self int) scanner { return &tapScanner{self: self} },
			leads: oneOf("not ok|Bail out!|#   Failed test|#   at "), indented: oneOf("not ok")},
		{name: "blocks", columns: problem.UTF16, traits: indentPlace, make: func(self int) scanner { return &blocksScanner{self: self} }},
		{name: "fortran", columns: problem.Guessed, make: func(self int) scanner { return &fortranScanner{self: self} },
			endings: oneOf("f|for|f90|f95|f03|f08|f18|fpp|ftn|inc")},
		{name: "ghc", columns: problem.Tabbed, make: func(self int) scanner { return &ghcScanner{self: self} }, endings: oneOf("hs|lhs")},
		{name: "ocaml", columns: problem.Bytes, make: func(self int) scanner { return &ocamlScanner{self: self} }, leads: oneOf(`File "|Fatal error: exception `)},
		{name: "nim", columns: problem.Bytes, make: func(self int) scanner { return &nimScanner{self: self} }, leads: oneOf("Error: unhandled exception: "), endings: oneOf("nim")},
		{name: "shellcheck", columns: problem.Tabbed, make: func(self int) scanner { return &shellcheckScanner{self: self} }, leads: oneOf("In ")},
		{name: "cmake", make: func(self int) scanner { return &cmakeScanner{self: self} }, leads: oneOf("CMake |The following tests FAILED:")},
		{name: "xml", make: func(self int) scanner { return &xmlScanner{self: self} },
			// The domains of libxml2's errors (xmlErrorDomain in xmlerror.h).
			behind: oneOf("parser |namespace |validity |element |Schemas |Relax-NG |HTML parser |I/O |XInclude |XPath |XPointer |XSLT |encoding |Entity|regexp |Catalog |C14N ")},
		{name: "specs", columns: problem.UTF16, make: func(self int) scanner { return &specsScanner{self: self} }, leads: oneOf("1) "), indented: oneOf("FAIL  |● |1) ")},
		{name: "bundle", columns: problem.UTF16, make: func(self int) scanner { return &bundleScanner{self: self} }, behind: oneOf("ERROR: "),
			leads: oneOf("✘ [ERROR] |▲ [WARNING] |ERROR in |WARNING in |error during build:|[!] |SyntaxError: /|[error] |[warn] |Checking formatting...")},
		{name: "boxed", make: func(self int) scanner { return &boxedScanner{self: self} }, indented: oneOf("× |✖ |x |! |⚠ |ℹ |i ")},
		{name: "nodetest", columns: problem.UTF16, make: func(self int) scanner { return &nodetestScanner{self: self} }, leads: oneOf("test at |Failed tests:")},
		{name: "node", columns: problem.UTF16, make: func(self int) scanner { return &nodeScanner{self: self} }, endings: oneOf("js|mjs|cjs|ts|mts|cts|jsx|tsx")},
		{name: "script", traits: numberStop, make: func(self int) scanner { return &scriptScanner{self: self} },
			leads:   oneOf("PHP |Fatal error: |Parse error: |Warning: |Notice: |Deprecated: |Recoverable fatal error: |syntax error at |Bareword found|String found|Number found|Scalar found|Array found|Operator found|lua"),
			endings: oneOf("rb"), behind: append(oneOf("0|1|2|3|4|5|6|7|8|9"), shellLine...)},
		{name: "make", make: func(self int) scanner { return &makeScanner{self: self} },
			leads: oneOf("FAILED: |ninja: "), behind: append(beforeStar(enteringFolder, leavingFolder), "*** "),
			endings: oneOf("makefile|gnumakefile|mk|mak|am|in|inc")},
		{name: "sanitizer", make: func(self int) scanner { return &sanitizerScanner{self: self} }, leads: oneOf("==|WARNING: ThreadSanitizer: ")},
		{name: "ld", make: func(self int) scanner { return &ldScanner{self: self} }, leads: oneOf("(."), alone: oneOf("error: |fatal error: |warning: "),
			behind: append(oneOf("cannot find |cannot open |unrecognized option|final link failed|i386 |relocation |undefined symbol|in function `"), linkPhrases[:len(linkPhrases)-1]...)},
		{name: "oneline", make: func(self int) scanner { return &onelineScanner{self: self} },
			endings: oneOf("proto|hs|rb|build|txt|options|xml"),
			behind:  oneOf("trailing whitespace.|leftover conflict marker|new blank line at EOF.|space before tab in indent.|indent with spaces.|tab in indent.")},
		{name: "below", make: func(self int) scanner { return &belowScanner{self: self} },
			leads: oneOf("Error: |Warning: |WARNING: |DEPRECATION WARNING|Deprecation Warning|ERROR: |\u2502|Dockerfile|Containerfile"), indented: oneOf("Error: |Warning: ")},
		{name: "gnu", columns: problem.Guessed, traits: anyPlace | digitParen, make: func(self int) scanner { return &gnuScanner{self: self} }},
	}
}

// beforeStar gives the beginnings of phrases.
func beforeStar(lists ...[]string) (beginnings []string) {
	for _, phrase := range slices.Concat(lists...) {
		before, _, _ := strings.Cut(phrase, "*")
		beginnings = append(beginnings, before)
	}
	return beginnings
}

// ColumnsOf tells how the tools of a family count columns. What came as JSON or
// SARIF counts characters, if nothing else is known of it.
func ColumnsOf(family string) problem.Columns {
	for _, f := range families {
		if f.name == family {
			return f.columns
		}
	}
	return problem.Characters
}

// Families names what is recognised, in order of precedence.
func Families() []string {
	names := make([]string, len(families))
	for i, f := range families {
		names[i] = f.name
	}
	return names
}

// choose gives the families of one engine: those that are built in, or of these
// the ones named in only, and behind them the user's own sieves, which are
// offered all lines first. Of the built-in ones each has a bit, so it stands first.
func choose(own []Rules, only []string) (chosen []family, builtIn int) {
	for _, f := range families {
		if only == nil || slices.Contains(only, f.name) {
			chosen = append(chosen, f)
		}
	}
	builtIn = len(chosen)
	for i := range own {
		chosen = append(chosen, family{name: own[i].Name, make: func(self int) scanner { return &ownScanner{self: self, rules: &own[i]} }})
	}
	return chosen, builtIn
}
