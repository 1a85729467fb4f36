package printable

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

func TestText(t *testing.T) {
	for in, want := range map[string]string{
		"plain":                      "plain",
		"ä 日本":                       "ä 日本",
		"a\x1b[31mb\x07":             "a␛[31mb␇",
		"tab\tline\nend\r":           "tab line␊end␍",
		"\xff\x9b31m":                "\ufffd\ufffd31m",
		"\u009b31m csi":              "\ufffd31m csi",
		"\u202egnp.exe":              "\ufffdgnp.exe",
		"\u2066isolate\u2069 \u200f": "\ufffdisolate\ufffd \ufffd",
	} {
		if got := Text(in); got != want {
			t.Errorf("%q: got %q, want %q", in, got, want)
		}
	}
}

func TestStreamPassesStylesOnly(t *testing.T) {
	const in = "a\x1b[1;31mred\x1b[m\x1b[2J\x1b[H\x1b]0;title\x07b\x1b]52;c;eA==\x1b\\c\x1b[?1049h\x1b(Bd\x1b[31;evil m\re\b\t\x07\x00\n\x1bPdcs\x1b\\f\x1bcg ä\u200b\u009b1m\u202e日\x9b\xe6x\xff"
	const want = "a\x1b[1;31mred\x1b[mbcdvil m\re\b\t\nfg ä1m日\ufffd\ufffdx\ufffd"
	for cut := 1; cut < len(in); cut++ {
		var b bytes.Buffer
		s := Stream{To: &b}
		for rest := in; len(rest) > 0; rest = rest[min(cut, len(rest)):] {
			if n, err := s.Write([]byte(rest[:min(cut, len(rest))])); err != nil || n == 0 {
				t.Fatal(n, err)
			}
		}
		if b.String() != want {
			t.Fatalf("in pieces of %d: %q, want %q", cut, b.String(), want)
		}
	}
}

func TestDuration(t *testing.T) {
	for want, d := range map[string]time.Duration{
		"0.8 s": 840 * time.Millisecond, "12 s": 12900 * time.Millisecond, "1 min 12 s": 72 * time.Second, "2 h 5 min": 125 * time.Minute,
	} {
		if got := Duration(d); got != want {
			t.Errorf("%s: got %s, want %s", d, got, want)
		}
	}
}

func FuzzText(f *testing.F) {
	f.Add("a\x1b[31m\u202e\xff")
	f.Fuzz(func(t *testing.T, s string) {
		got := Text(s)
		if !utf8.ValidString(got) || strings.IndexFunc(got, func(r rune) bool { return r < 0x20 || r >= 0x7f && r < 0xa0 || r == 0x202e }) >= 0 {
			t.Errorf("%q: %q", s, got)
		}
		var b bytes.Buffer
		(&Stream{To: &b}).Write([]byte(s))
		if out := b.String(); !utf8.ValidString(out) || strings.ContainsFunc(out, Harmful) {
			t.Fatalf("%q: %q passes", s, out)
		}
		for rest := b.Bytes(); ; {
			i := bytes.IndexByte(rest, 0x1b)
			if i < 0 {
				break
			}
			rest = rest[i+1:]
			end := bytes.IndexByte(rest, 'm')
			if end < 1 || rest[0] != '[' || !plainParams(rest[1:end]) {
				t.Fatalf("%q: %q passes", s, b.Bytes())
			}
		}
	})
}

// Lines keeps line feeds and tabs, and nothing else that a terminal obeys, however the
// text is cut into writes.
func TestLines(t *testing.T) {
	const in = "a\tb\nc\x1b[31md\u202e\n日\u009b\x07本\xff\n\nlast"
	const want = "a\tb\nc␛[31md\ufffd\n日\ufffd␇本\ufffd\n\nlast"
	for cut := 1; cut <= len(in); cut++ {
		var b bytes.Buffer
		l := Lines{To: &b}
		for rest := in; len(rest) > 0; rest = rest[min(cut, len(rest)):] {
			piece := rest[:min(cut, len(rest))]
			if n, err := l.Write([]byte(piece)); err != nil || n != len(piece) {
				t.Fatal(n, err)
			}
		}
		if b.String() != want {
			t.Fatalf("in pieces of %d: %q, want %q", cut, b.String(), want)
		}
	}
}

// The value of JSON stays the same when its harmful characters become escapes.
func FuzzJSON(f *testing.F) {
	f.Add("plain")
	f.Add("del\x7f c1 \u009b bidi \u202e zero \u200b tag \U000e0041 日本")
	f.Fuzz(func(t *testing.T, s string) {
		s = strings.ToValidUTF8(s, "?")
		data, err := json.Marshal(map[string]string{"text": s})
		if err != nil {
			t.Fatal(err)
		}
		var b bytes.Buffer
		if _, err := (JSON{To: &b}).Write(data); err != nil {
			t.Fatal(err)
		}
		if strings.ContainsFunc(b.String(), func(r rune) bool { return r < 0x20 || r == 0x7f || Harmful(r) }) {
			t.Errorf("%q passes", b.String())
		}
		var back map[string]string
		if err := json.Unmarshal(b.Bytes(), &back); err != nil || back["text"] != s {
			t.Errorf("%q becomes %q: %v", s, back["text"], err)
		}
	})
}
