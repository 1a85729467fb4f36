package tallyfile

import (
	"os"
	"strings"
	"testing"
)

// Laid out anew a file says the same, keeps its comments and what is lined up, and is as it is when laid out
// again.
func TestFormat(t *testing.T) {
	const text = "# head  \n\n\n[workspace]\nname=\"a\"   \nusual   = \"b#c\" # the usual one\n# of the task\n[task.one]\n  run =   '''\n  kept  \n\n\n'''\nbefore=[\n    \"#two\",   \n  # why\n\n]\n\n\n\n[task.\"x = y\"]\n\"run\"=\"a = b\"\n\n"
	const want = "# head\n\n[workspace]\nname = \"a\"\nusual   = \"b#c\" # the usual one\n\n# of the task\n[task.one]\nrun = '''\n  kept  \n\n\n'''\nbefore = [\n    \"#two\",\n  # why\n\n]\n\n[task.\"x = y\"]\n\"run\" = \"a = b\"\n"
	got, err := Format([]byte(text))
	if err != nil || string(got) != want {
		t.Errorf("%v\n%q\nwant\n%q", err, got, want)
	}
	for _, text := range []string{want, everything, strings.ReplaceAll(want, "\n", "\r\n"), ""} {
		once, err := Format([]byte(text))
		if err != nil {
			t.Fatalf("%v in\n%s", err, text)
		}
		if twice, err := Format(once); err != nil || string(twice) != string(once) {
			t.Errorf("again: %v\n%s\nbefore\n%s", err, twice, once)
		}
		if strings.Count(string(once), "#") != strings.Count(text, "#") {
			t.Errorf("comments are lost:\n%s", once)
		}
	}
	if _, err := Format([]byte("[task\n")); err == nil {
		t.Error("a broken file was laid out")
	}
	demo, err := os.ReadFile("../../demo/_emberclay/tidytally.toml")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := Format(demo); err != nil || string(got) != string(demo) {
		t.Errorf("the demo's file would change: %v\n%s", err, got)
	}
}

func FuzzFormat(f *testing.F) {
	f.Add([]byte(everything))
	f.Add([]byte("a=\"\"\"\n#\n\"\"\"\nb=[1,\n# x\n2]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		once, err := Format(data)
		if err != nil {
			return
		}
		if twice, err := Format(once); err != nil || string(twice) != string(once) {
			t.Errorf("%q becomes %q and then %q, %v", data, once, twice, err)
		}
	})
}

// Each place where a file names something is found, with what it names and how long that is.
func TestNames(t *testing.T) {
	const text = "[workspace]\nusual = \"a#b\"\n[task.one]\nbefore = [\"#two\",\n  'kiln/Makefile#x']\nvia = \"v\"\nsieves = [\"s\"]\n[task.\"two words\"]\nrun = \"x\"\n[adjust.\"p.json#build\"]\nwith = [\"#one\"]\n[via.v]\nrun = '{command}'\n[sieve.s]\n"
	lines := strings.Split(text, "\n")
	var got []string
	for _, n := range Names("x/tidytally.toml", []byte(text)) {
		word := lines[n.Line-1][n.Column-1 : n.Column-1+n.Bytes]
		if strings.Trim(word, `"'`) != n.Text {
			t.Errorf("%+v is %q there", n, word)
		}
		mark := ""
		if n.Declares {
			mark = "!"
		}
		got = append(got, mark+n.ID)
	}
	const want = "a#b !x/tidytally.toml#one x/tidytally.toml#two kiln/Makefile#x v s !x/tidytally.toml#two%20words p.json#build x/tidytally.toml#one !v !s"
	if strings.Join(got, " ") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, " "), want)
	}
}
