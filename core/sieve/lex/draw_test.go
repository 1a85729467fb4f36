package lex

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"unicode/utf8"
)

func drawn(raw string) []string {
	var d Drawing
	d.Draw([]byte(raw))
	var rows []string
	for _, r := range d.Rows {
		rows = append(rows, string(r.Text))
	}
	return rows
}

// Spinners and progress lines that are taken back are not text.
func TestDraw(t *testing.T) {
	const line = "a.c:5:3: error: gone"
	for _, before := range []string{
		"⠙\x1b[1G\x1b[0K", "⠙\x1b[2K\x1b[1G", "x\x1b[999D\x1b[K", "12345\x1b[5D\x1b[5X", "[50%]\x1b[5D\x1b[K", "|\b/\b-\b\\\b \b",
		"\x1b7[==> ] 40%\x1b8\x1b[K", "\x1b[s[==> ] 40%\x1b[u\x1b[K", "\a", "\x1b[5C\x1b[5D", "漢字\x1b[4D\x1b[K", "x\x1b[1K\r",
		"abc\x1b[3D\x1b[3P", "\x1b[38;5;1m\x1b[K", "x\x1b[1;1H\x1b[0J",
	} {
		rows := drawn(before + line)
		if last := rows[len(rows)-1]; last != line {
			t.Errorf("%q leads to %q", before+line, rows)
		}
	}
	for raw, want := range map[string]string{
		"a.c:5:3: error:\x1b[1Cgone":         line,
		"a.c:5:3: errr: gone\x1b[7D\x1b[1@o": line,
		"one\rtwo":                           "two",
		"three\rtwo":                         "two", // the rest of a longer text
		"one\r":                              "one",
		"one\r\x1b[K":                        "",
		"one\x1b[1B two\x1b[2Athree":         "       three",
		"one\x1b[1Btwo\x1b[1Bthree":          "one|   two|      three",
		"  12% done\x1b[10D\x1b[1B> step\x1b[6D\x1b[1A": "  12% done",
		"  12%\x1b[5D\x1b[1B> a\x1b[3D\x1b[1A\x1b[2Kx":  "x",
		"x\x1b[1A\x1b[2K\ry":                            "y",
		"a\tb":                                          "a\tb",
		"e\u0301tat\b.":                                 "e\u0301ta.",
		"漢\b\bab":                                       "ab",
		"":                                              "",
		" \b ":                                          "",
	} {
		if got := strings.Join(drawn(raw), "|"); got != want {
			t.Errorf("%q is drawn as %q, not %q", raw, got, want)
		}
	}
}

// A row is what a real terminal shows: tmux draws the same bytes.
func TestDrawAsATerminal(t *testing.T) {
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Skip("tmux is not installed")
	}
	raws := []string{
		"⠙\x1b[1G\x1b[0Kone", "12345\x1b[5D\x1b[5Xtwo", "abc\x1b[2Dx\x1b[1@y", "abcdef\x1b[4D\x1b[2Pz", "\x1b7mark\x1b8four\x1b[Kx",
		"漢字kana\x1b[6Dwide", "a\x1b[12Gcolumn", "back\b\b\b\bsix\x1b[1K", "x\x1b[3Cy\x1b[2Dz", "tab\tstop\x1b[3D\x1b[Ks", "\x1b[s12\x1b[u3",
	}
	script := "clear; printf '"
	for _, raw := range raws {
		for _, c := range []byte(raw) {
			script += fmt.Sprintf(`\%03o`, c)
		}
		script += `\n`
	}
	script += "'; tmux wait-for -S drawn; sleep 600"
	socket := t.TempDir() + "/s"
	run := func(args ...string) string {
		out, err := exec.Command("tmux", append([]string{"-S", socket, "-f", "/dev/null"}, args...)...).CombinedOutput()
		if err != nil {
			t.Fatalf("tmux %q: %v: %s", args, err, out)
		}
		return string(out)
	}
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", socket, "kill-server").Run() }) // it may have ended
	run("-u", "new-session", "-d", "-x", "80", "-y", "30", "exec sh -c '"+strings.ReplaceAll(script, "'", `'\''`)+"'")
	run("wait-for", "drawn")
	shown := strings.Split(run("capture-pane", "-p"), "\n")
	for i, raw := range raws {
		want := strings.ReplaceAll(strings.TrimRight(shown[i], " "), "\t", " ")
		got := ""
		if rows := drawn(raw); len(rows) > 0 {
			got = rows[len(rows)-1]
		}
		if strings.Join(strings.Fields(got), " ") != strings.Join(strings.Fields(want), " ") || strings.Contains(raw, "\t") == false && got != want {
			t.Errorf("%q is drawn as %q; tmux shows %q", raw, got, want)
		}
	}
}

// A drawing has at most the characters of the line, and blanks.
func FuzzDraw(f *testing.F) {
	f.Add([]byte("a\x1b[3Cb\x1b[2D\x1b[K漢\b\x1b[2P\x1b[1@x\x1b[1A\x1b[2Jy\r\x1b[5;5H\x1b[1Jz"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		var d Drawing
		d.Draw(raw)
		total := 0
		for _, r := range d.Rows {
			total += len(r.Text)
			if strings.ContainsAny(string(r.Text), "\x1b\b\r\n\a") {
				t.Fatalf("%q is drawn as %q", raw, r.Text)
			}
			if utf8.Valid(raw) && !utf8.Valid(r.Text) {
				t.Fatalf("%q becomes %q", raw, r.Text)
			}
		}
		if total > (len(raw)+1)*maxMove {
			t.Fatalf("%d bytes become %d", len(raw), total)
		}
		d.Draw(raw)
		again := 0
		for _, r := range d.Rows {
			again += len(r.Text)
		}
		if again != total {
			t.Fatalf("%q is drawn as %d bytes, and then as %d", raw, total, again)
		}
	})
}
