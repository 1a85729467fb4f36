package tallyfile

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func TestEditsKeepEverythingElse(t *testing.T) {
	for _, c := range []struct{ name, before, after string }{
		{"an empty file", "", "[workspace]\nignore = [\"a\"]\n"},
		{"no table", "# mine\n[set]\nx = \"1\"", "# mine\n[set]\nx = \"1\"\n\n[workspace]\nignore = [\"a\"]\n"},
		{"no key", "[workspace] # all\nname = \"n\" # that\n\n# about tasks\n[task.x]\nrun = \"y\"\n", "[workspace] # all\nname = \"n\" # that\nignore = [\"a\"]\n\n# about tasks\n[task.x]\nrun = \"y\"\n"},
		{"one line", "[workspace]\nignore = [ 'b', ] # why\nslots = 2\n", "[workspace]\nignore = [ 'b', \"a\" ] # why\nslots = 2\n"},
		{"an empty list", "[workspace]\nignore = []\n", "[workspace]\nignore = [\"a\"]\n"},
		{"several lines", "[workspace]\nignore = [\n    \"b\", # one\n    \"c\" # two\n]\n", "[workspace]\nignore = [\n    \"b\", # one\n    \"c\", # two\n    \"a\",\n]\n"},
		{"there already", "[workspace]\nignore = ['a']\n", "[workspace]\nignore = ['a']\n"},
		{"a bracket in a string and a comment", "[workspace]\nignore = [ # ]\n  \"]#\",\n]\n", "[workspace]\nignore = [ # ]\n  \"]#\",\n  \"a\",\n]\n"},
		{"carriage returns", "[workspace]\r\nname = \"x\"\r\n", "[workspace]\r\nname = \"x\"\r\nignore = [\"a\"]\r\n"},
		{"a value over several lines before", "[workspace]\nrules_off = [\n  \"x\",\n]\n[set]\n", "[workspace]\nrules_off = [\n  \"x\",\n]\nignore = [\"a\"]\n[set]\n"},
	} {
		got, err := Append([]byte(c.before), "ignore", "a")
		if err != nil || string(got) != c.after {
			t.Errorf("%s: %v\ngot  %q\nwant %q", c.name, err, got, c.after)
		}
	}
	got, err := Put([]byte("[workspace]\nusual = 'old#x' # the one\n"), "usual", `kiln/"q"#y`)
	if want := "[workspace]\nusual = 'kiln/\"q\"#y' # the one\n"; err != nil || string(got) != want {
		t.Errorf("%v, %q", err, got)
	}
	got, err = Remove([]byte("[workspace]\nignore = [\"b\", 'a', # x\n \"c\"]\n"), "ignore", "a")
	if want := "[workspace]\nignore = [\"b\", # x\n \"c\"]\n"; err != nil || string(got) != want {
		t.Errorf("%v, %q", err, got)
	}
}

func TestEditsOfBrokenFilesAreRefused(t *testing.T) {
	for _, text := range []string{"[workspace]\nignore = 3\n", "[workspace]\nignore = [\"b\"\n", "workspace = 1\n"} {
		got, err := Append([]byte(text), "ignore", "a")
		if err == nil {
			t.Errorf("%q became %q", text, got)
		}
	}
}

// Whatever stands in the file: an edit that succeeds adds its item, and the
// other values stay.
func FuzzAppend(f *testing.F) {
	f.Add("[workspace]\nignore = [\n  \"b\", # one\n]\n", "a")
	f.Add("[workspace]\nignore = ['''x''', \"\"\"y\"\"\"]\n[set]\nq = \"1\"", "\"\\\x00é")
	f.Fuzz(func(t *testing.T, text, item string) {
		if strings.ToValidUTF8(item, "") != item {
			return
		}
		got, err := Append([]byte(text), "ignore", item)
		if err != nil {
			return
		}
		if list := Parse("tidytally.toml", got).Workspace.Ignore; !slices.Contains(list, item) && !strings.Contains(string(got), "\x00") {
			// The list may hold what is no string: then it does not count.
			for _, fault := range Parse("tidytally.toml", got).Faults {
				if strings.Contains(fault.Message, "ignore") {
					return
				}
			}
			t.Errorf("%q is not in %q of %q", item, list, got)
		}
	})
}

func TestRemovingAnItem(t *testing.T) {
	for before, after := range map[string]string{
		`ignore = ["a", "b"]`:                       `ignore = ["b"]`,
		`ignore = ["b", "a"]`:                       `ignore = ["b"]`,
		`ignore = [ 'b', 'a', 'c' ] # x`:            `ignore = [ 'b', 'c' ] # x`,
		"ignore = [\n  \"a\", # first\n  \"b\",\n]": "ignore = [\n  # first\n  \"b\",\n]",
		`ignore = ["b"]`:                            `ignore = ["b"]`,
		`name = "a"`:                                `name = "a"`,
		`ignore = ["\u0061", "b"]`:                  `ignore = ["b"]`,
	} {
		got, err := Remove([]byte("[workspace]\n"+before+"\n"), "ignore", "a")
		if want := "[workspace]\n" + after + "\n"; err != nil || string(got) != want {
			t.Errorf("%s: %v, got %q, want %q", before, err, got, want)
		}
	}
}

// A value is replaced where an origin says that it stands, and only a string.
func TestReplacingAValueAtItsPlace(t *testing.T) {
	const text = "# é\n[sieve.x]\n[[sieve.x.lines]] # é\nmatch = '^é(?P<message>.*)$' # kept\n"
	f := Parse("tidytally.toml", []byte(text))
	if len(f.Sieves) != 1 {
		t.Fatal(f.Faults)
	}
	o := f.Sieves[0].Lines[0].Origin
	got, err := ReplaceAt([]byte(text), o.Line, o.Column, `^"it's" (?P<message>\w+)$`)
	want := "# é\n[sieve.x]\n[[sieve.x.lines]] # é\nmatch = \"^\\\"it's\\\" (?P<message>\\\\w+)$\" # kept\n"
	if err != nil || string(got) != want {
		t.Errorf("%v\ngot  %q\nwant %q", err, got, want)
	}
	if again := Parse("tidytally.toml", got); len(again.Sieves) != 1 || again.Sieves[0].Lines[0].Match.String() != `^"it's" (?P<message>\w+)$` {
		t.Errorf("read again: %v", again.Faults)
	}
	if _, err := ReplaceAt([]byte(text), 2, 1, "x"); err == nil || !strings.Contains(err.Error(), "changed meanwhile") {
		t.Errorf("where no string stands: %v", err)
	}
	if _, err := ReplaceAt([]byte(text), 900, 1, "x"); err == nil {
		t.Error("behind the end of the file")
	}
}

// The file is replaced as a whole: its mode stays, a link stays a link, one that
// is not there is made, and a refused edit leaves everything.
func TestEditFile(t *testing.T) {
	dir := t.TempDir()
	real, link := filepath.Join(dir, "real.toml"), filepath.Join(dir, "tidytally.toml")
	if err := os.WriteFile(real, []byte("# mine\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("real.toml", link); err != nil {
		t.Fatal(err)
	}
	add := func(data []byte) ([]byte, error) { return Append(data, "ignore", "a") }
	if err := EditFile(link, add); err != nil {
		t.Fatal(err)
	}
	info, err := os.Lstat(link)
	if err != nil || info.Mode()&os.ModeSymlink == 0 {
		t.Errorf("the link is gone: %v, %v", err, info.Mode())
	}
	data, err := os.ReadFile(real)
	if err != nil || string(data) != "# mine\n\n[workspace]\nignore = [\"a\"]\n" {
		t.Errorf("%v, %q", err, data)
	}
	if info, err := os.Stat(real); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("its mode is %v, %v", info.Mode(), err)
	}
	fresh := filepath.Join(dir, "fresh.toml")
	if err := EditFile(fresh, add); err != nil {
		t.Fatal(err)
	}
	if data, err := os.ReadFile(fresh); err != nil || !strings.Contains(string(data), "ignore") {
		t.Errorf("%v, %q", err, data)
	}
	if err := os.WriteFile(fresh, []byte("workspace = 3\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := EditFile(fresh, add); err == nil || !strings.Contains(err.Error(), fresh) {
		t.Errorf("a broken file: %v", err)
	}
	if data, _ := os.ReadFile(fresh); string(data) != "workspace = 3\n" {
		t.Errorf("it became %q", data)
	}
	names, err := os.ReadDir(dir)
	if err != nil || len(names) != 3 {
		t.Errorf("%v, left behind: %v", err, names)
	}
	if err := EditFile(filepath.Join(dir, "no/such/x.toml"), add); err == nil {
		t.Error("a folder that is not there")
	}
}

// A key of any table is set, changed and taken out; what is left empty goes, comments stay.
func TestSettingKeysOfTasks(t *testing.T) {
	const file = "# mine\n[task.build]\nrun = \"make\" # all\n\n[adjust.\"kiln/Makefile#size mk1\"]\n# why\nkey = \"f7\"\n\n[set]\nx = \"1\"\n"
	for _, c := range []struct {
		name  string
		edit  func([]byte) ([]byte, error)
		after string
	}{
		{
			"a new key", func(d []byte) ([]byte, error) { return Set(d, Table{"task", "build"}, "key", `"f6"`) },
			strings.Replace(file, "# all\n", "# all\nkey = \"f6\"\n", 1),
		},
		{"a key of a quoted table", func(d []byte) ([]byte, error) {
			return Set(d, Table{"adjust", "kiln/Makefile#size mk1"}, "reads", `["*.c"]`)
		}, strings.Replace(file, "\"f7\"\n", "\"f7\"\nreads = [\"*.c\"]\n", 1)},
		{
			"a value", func(d []byte) ([]byte, error) { return Set(d, Table{"task", "build"}, "run", `["make", "all"]`) },
			strings.Replace(file, `"make"`, `["make", "all"]`, 1),
		},
		{"a new table", func(d []byte) ([]byte, error) { return Set(d, Table{"adjust", "a b#c"}, "via", `"box"`) }, file + "\n[adjust.\"a b#c\"]\nvia = \"box\"\n"},
		{
			"a table with a comment stays", func(d []byte) ([]byte, error) { return Unset(d, Table{"adjust", "kiln/Makefile#size mk1"}, "key") },
			strings.Replace(file, "key = \"f7\"\n", "", 1),
		},
		{"an empty table goes", func(d []byte) ([]byte, error) { return Unset(d, Table{"set"}, "x") }, strings.Replace(file, "\n[set]\nx = \"1\"\n", "", 1)},
		{"tables at the end", func(d []byte) ([]byte, error) { return Add(d, "[task.\"a b\"]\nrun = \"x\"\n") }, file + "\n[task.\"a b\"]\nrun = \"x\"\n"},
	} {
		got, err := c.edit([]byte(file))
		if err != nil || string(got) != c.after {
			t.Errorf("%s: %v\ngot\n%s\nwant\n%s", c.name, err, got, c.after)
		}
		windows := strings.ReplaceAll(file, "\n", "\r\n")
		if got, err = c.edit([]byte(windows)); err != nil || string(got) != strings.ReplaceAll(c.after, "\n", "\r\n") {
			t.Errorf("%s, with carriage returns: %v\n%q", c.name, err, got)
		}
	}
	for _, text := range []string{"[task.build]\nrun = \"other\"\n", "[task.new]\nrun = \n"} {
		if got, err := Add([]byte(file), text); err == nil {
			t.Errorf("%q was added:\n%s", text, got)
		}
	}
	if got, err := Set([]byte("task = { build = { run = \"x\" } }\n"), Table{"task", "build"}, "key", `"f7"`); err == nil {
		t.Errorf("an inline table became\n%s", got)
	}
}

// A rule that is switched off and on again leaves the file as it was.
func TestThereAndBack(t *testing.T) {
	for _, text := range []string{"", "[task.x]\nrun = \"y\"\n", "[workspace]\nname = \"n\"\n\n[set]\na = \"b\"\n"} {
		there, err := Append([]byte(text), "rules_off", "caches")
		if err != nil {
			t.Fatal(err)
		}
		back, err := Remove(there, "rules_off", "caches")
		if err != nil || string(back) != text {
			t.Errorf("%v: %q became %q", err, text, back)
		}
	}
}
