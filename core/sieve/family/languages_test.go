package family

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// make -k was run in each language on the same sources, in two folders, one with
// a script; see testdata/languages/README.md. In all of them it says the same
// problems at the same places.
func TestEveryLanguageSaysTheSame(t *testing.T) {
	t.Parallel()
	said := func(name string) (all []string) {
		for _, p := range sift(t, read(t, filepath.Join("languages", name+".log"))) {
			all = append(all, fmt.Sprint(p.File, ":", p.Line, ":", p.Column, " ", p.Severity, " ", p.Code, " ", len(p.Related)))
		}
		slices.Sort(all)
		return all
	}
	want := said("en")
	if len(want) < 20 {
		t.Fatalf("in English:\n%s", strings.Join(want, "\n"))
	}
	names, _ := filepath.Glob("testdata/languages/*.log")
	if len(names) < 20 {
		t.Fatalf("only %d languages", len(names))
	}
	for _, name := range names {
		language := strings.TrimSuffix(filepath.Base(name), ".log")
		if got := said(language); !slices.Equal(got, want) {
			t.Errorf("%s:\n%s\nwant\n%s", language, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
}

func TestOtherLanguagesOfOtherTools(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ output, want string }{
		{"A.java:1: エラー: 不適合な型: Stringをintに変換できません:\nclass A { int x = \"s\"; }\n                  ^\nエラー1個\n", "A.java:1:19: error: 不適合な型: Stringをintに変換できません:\n"},
		{"A.java:1: 警告:[rawtypes] raw型が見つかりました: List\nclass A { java.util.List l; }\n                   ^\n", "A.java:1:20: warning: raw型が見つかりました: List [rawtypes]\n"},
		{"kiln.f90:3:6:\n\n    3 |   x = y\n      |      1\nFehler: Symbol »y« bei (1) hat keinen IMPLICIT-Typ\n", "kiln.f90:3:6: error: Symbol »y« bei (1) hat keinen IMPLICIT-Typ\n"},
		{"/usr/bin/ld : a.o : dans la fonction « main » :\na.c:(.text+0x5) : référence indéfinie vers « heat »\n", "a.c: error: référence indéfinie vers « heat »\n"},
		{"/usr/bin/ld: a.o: в функции «main»:\na.c:(.text+0x5): неопределённая ссылка на «heat»\n", "a.c: error: неопределённая ссылка на «heat»\n"},
		{"x.py:3: Anmerkung: nur ein Wort\n", "x.py:3: note: nur ein Wort\n"},
		{"um 12:30: Fehler: kein Ort\n", ""},
	} {
		if got := lines(sift(t, []byte(c.output))); got != c.want {
			t.Errorf("%q\ngot  %swant %s", c.output, got, c.want)
		}
	}
}
