package sieve

import (
	"regexp"
	"strings"
	"testing"
)

// markOf marks a part of a line.
func markOf(line, name, part string) Mark {
	at := strings.Index(line, part)
	return Mark{name, at, at + len(part)}
}

// The expression from one line matches the others of its shape, and captures what was marked.
func TestExpressionFromMarks(t *testing.T) {
	for _, c := range []struct {
		line  string
		marks [][2]string
		other string
		want  string
	}{
		{
			"!! error in src/coil.c at 12: too hot",
			[][2]string{{"severity", "error"}, {"file", "src/coil.c"}, {"line", "12"}, {"message", "too hot"}},
			"!! warning in b.c at 7: too cold", "severity=warning file=b.c line=7 message=too cold",
		},
		{
			"[17] kiln.c(12,4): E17 no such coil",
			[][2]string{{"file", "kiln.c"}, {"line", "12"}, {"column", "4"}, {"code", "E17"}, {"message", "no such coil"}},
			"[4]   ramp.c(1,22): E9 gone", "file=ramp.c line=1 column=22 code=E9 message=gone",
		},
		{
			"kiln-7 reports: hot in my file.c",
			[][2]string{{Varies, "kiln-7"}, {"message", "hot"}, {"file", "my file.c"}, {"code", "my"}},
			"oven reports: cold in your file.c", "message=cold file=your file.c",
		},
	} {
		var marks []Mark
		for _, m := range c.marks {
			marks = append(marks, markOf(c.line, m[0], m[1]))
		}
		re := regexp.MustCompile(Expression(c.line, marks))
		if !re.MatchString(c.line) {
			t.Errorf("%s does not match its own line %q", re, c.line)
		}
		var got []string
		if m := re.FindStringSubmatch(c.other); m != nil {
			for i, name := range re.SubexpNames()[1:] {
				got = append(got, name+"="+m[i+1])
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s of %q: %s, want %s", re, c.other, got, c.want)
		}
	}
}

// What looks like a place, a severity and a message is marked without being asked.
func TestGuessedMarks(t *testing.T) {
	for line, want := range map[string]string{
		"src/a.c:12:3: warning: hot":           "file=src/a.c line=12 column=3 severity=warning message=hot",
		"!! error in src/coil.c at line 12":    "file=src/coil.c line=12 severity=error",
		"E [kiln.c(7)] the coil is broken":     "file=kiln.c line=7 message=the coil is broken",
		`File "mix.py", line 9, too much clay`: "file=mix.py line=9 message=too much clay",
		"nothing at all":                       "message=nothing at all",
	} {
		var got []string
		for _, m := range Guess(line) {
			got = append(got, m.Name+"="+strings.TrimLeft(line[m.Start:m.End], "] "))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q: %s, want %s", line, got, want)
		}
	}
}

// Whatever the line: the expression is one, and matches its own line.
func FuzzExpression(f *testing.F) {
	f.Add("src/a.c:1:2: error: x")
	f.Add("\xff( [ \\ line 3")
	f.Fuzz(func(t *testing.T, line string) {
		if strings.ToValidUTF8(line, "") != line || strings.ContainsAny(line, "\n\r") {
			return
		}
		re, err := regexp.Compile(Expression(line, Guess(line)))
		if err != nil || !re.MatchString(line) {
			t.Errorf("%q: %v, %s", line, err, re)
		}
	})
}
