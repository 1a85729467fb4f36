package task

import (
	"net/url"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// What is quoted, the shell reads back as it was.
func TestQuoteAgainstTheShell(t *testing.T) {
	words := []string{"plain", "", "a b", "it's", `"x"`, "$HOME", "`id`", "a\nb", "-n", "*", "~", "{a,b}", "{1..3}", "{set.python}", "{", "}", "BOARD=a b", "=x", "--in={a,b}", "it's !x", "\x01", "ä ö", `back\slash`, "a;b|c&d", "#x", "!"}
	out, err := exec.Command("sh", "-c", `for w in `+QuoteAll(words)+`; do printf '%s\0' "$w"; done`).Output()
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00"); !slices.Equal(got, words) {
		t.Errorf("got %q\nwant %q", got, words)
	}
	if out, err = exec.Command("bash", "-c", "printf '%s' "+Quote("{set.python}")+Quote("{1..3}")+Quote("{a,b}")).Output(); err == nil && string(out) != "{set.python}{1..3}{a,b}" {
		t.Errorf("bash expands what was quoted: %s", out)
	}
}

// A line is split into the words that the shell makes of it.
func TestSplitWordsAgainstTheShell(t *testing.T) {
	for _, line := range []string{`a  b`, `'a b' c`, `"a \"b\" \\ c" d\ e`, `x='y z'`, `""`, `a'b'"c"`, `\'`} {
		out, err := exec.Command("sh", "-c", `for w in `+line+`; do printf '%s\0' "$w"; done`).Output()
		if err != nil {
			t.Fatal(err)
		}
		want := strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00")
		if got, err := SplitWords(line); err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: got %q (%v), want %q", line, got, err, want)
		}
	}
	for _, bad := range []string{`'a`, `b "c`} {
		if _, err := SplitWords(bad); err == nil {
			t.Errorf("%s: an open quote should be told", bad)
		}
	}
}

func TestPlaceholders(t *testing.T) {
	v := Values{
		File: "/w/kiln/src/coil.c", Line: 12, Root: "/w", Dir: "/w/kiln", Set: map[string]string{"py": "my python"},
		Env: func(n string) (string, bool) { return "value of " + n, n == "HOME" },
	}
	for _, c := range []struct {
		text, want string
		quoted     bool
	}{
		{"{file} {file.rel} {file.dir} {file.base} {file.stem} {file.ext} {line} {root} {dir}", "/w/kiln/src/coil.c kiln/src/coil.c /w/kiln/src coil.c coil c 12 /w /w/kiln", false},
		{"{set.py} {env.HOME}", "'my python' 'value of HOME'", true},
		{"{set.py}", "my python", false},
		{"awk '{{print}}' ${HOME} ${x:-{y}}", "awk '{print}' ${HOME} ${x:-{y}}", true},
		{"{ print $1 } {1..3} {a,b}", "{ print $1 } {1..3} {a,b}", true},
	} {
		got, err := v.Expand(c.text, c.quoted)
		if err != nil || got != c.want {
			t.Errorf("%s: got %q (%v), want %q", c.text, got, err, c.want)
		}
	}
	for text, want := range map[string]string{"{env.NOPE}": "no NOPE", "{set.x}": "has x", "{ask.who}": "asks for a value", "{nonsense}": "no such placeholder"} {
		if _, err := v.Expand(text, false); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: error %v should say %q", text, err, want)
		}
	}
	if _, err := (&Values{}).Expand("{file}", false); err == nil || !strings.Contains(err.Error(), "--file") {
		t.Errorf("without a current file: %v", err)
	}
}

func TestIDsAreURIReferencesAndComeBack(t *testing.T) {
	for _, c := range [][2]string{
		{"kiln/Makefile", "controller"}, {"a b/Makefile", "x#y"}, {"p%q/f", "ä"}, {"x/package.json", "build:dev"}, {"f", "a/b?c"}, {"bad\xffname/Makefile", "t\n"},
	} {
		id := MakeID(c[0], c[1])
		u, err := url.Parse(strings.SplitN("./"+id, "#", 2)[0])
		if err != nil || u.Path != "./"+c[0] {
			t.Errorf("%q is no URI reference for %q: %v", id, c[0], err)
		}
		if file, name := SplitID(id); file != c[0] || name != c[1] {
			t.Errorf("%q comes back as %q %q", id, file, name)
		}
	}
}

func TestFind(t *testing.T) {
	tasks := []*Task{
		{Name: "controller", File: "kiln/Makefile"},
		{Name: "build", File: "shop/package.json"},
		{Name: "build", File: "old/shop/package.json"},
		{Name: "test", File: "shop/package.json"},
		{Name: "x.o", File: "kiln/Makefile", Hidden: true},
		{Name: "x.o", File: "shop/package.json"},
	}
	for id, want := range map[string]string{
		"controller": "kiln/Makefile#controller", "kiln#controller": "kiln/Makefile#controller", "kiln/Makefile#controller": "kiln/Makefile#controller",
		"old/shop#build": "old/shop/package.json#build", "shop/package.json#build": "shop/package.json#build", "x.o": "shop/package.json#x.o",
	} {
		got, err := Find(tasks, id)
		if err != nil || got.ID() != want {
			t.Errorf("%s: got %v, want %s (%v)", id, got, want, err)
		}
	}
	if _, err := Find(tasks, "build"); err == nil || !strings.Contains(err.Error(), "old/shop/package.json#build") || !strings.Contains(err.Error(), "  shop/package.json#build") {
		t.Errorf("an ambiguous name should list the candidates: %v", err)
	}
	_, err := Find(tasks, "controler")
	if err == nil || strings.Count(err.Error(), "\n") != 3 || !strings.Contains(strings.Split(err.Error(), "\n")[1], "controller") {
		t.Errorf("an unknown name should list the nearest three, the best first: %v", err)
	}
}

func FuzzExpand(f *testing.F) {
	f.Add("{file} ${x} {{ }}")
	f.Add("{{{a}")
	f.Fuzz(func(t *testing.T, text string) {
		v := Values{File: "/f", Line: 1, Root: "/", Dir: "/", Env: func(string) (string, bool) { return "", true }}
		_, _ = v.Expand(text, true)
		words, err := SplitWords(text)
		if err == nil {
			again, err := SplitWords(QuoteAll(words))
			if err != nil || !slices.Equal(words, again) {
				t.Errorf("%q: %q comes back as %q", text, words, again)
			}
		}
	})
}

// What a command gets is the value, whatever is in it and whatever quotes it
// stands in: the shell itself says so.
func TestValuesReachTheCommandAsTheyAre(t *testing.T) {
	if _, err := exec.LookPath("sh"); err != nil {
		t.Skip("there is no sh")
	}
	for _, value := range []string{"plain", "two words", "it's", `a"b`, "$HOME `id` $(id)", `back\slash\`, "new\nline", "*", "-n", "", "~", "a;b|c&d", "{x}", "日本", `\"'$`, "!"} {
		v := Values{Set: map[string]string{"x": value}}
		for _, form := range []string{`printf '<%s>' {set.x}`, `printf '<%s>' "{set.x}"`, `printf '<%s>' '{set.x}'`, `printf '<%s>' a{set.x}b`, `printf '<%s>' "a{set.x}b"`, `printf '<%s>' \"{set.x}`} {
			command, err := v.ExpandCommand(Command{Shell: form})
			if err != nil {
				t.Fatal(err)
			}
			want := "<" + value + ">"
			switch {
			case strings.Contains(form, "a{"):
				want = "<a" + value + "b>"
			case strings.Contains(form, `\"{`):
				want = `<"` + value + ">"
			}
			out, err := exec.Command("sh", "-c", command.Shell).Output()
			if err != nil || string(out) != want {
				t.Errorf("%s with %q: %v, the command got %q, want %q (%s)", form, value, err, out, want, command.Shell)
			}
		}
	}
}
