package datatext

import (
	"fmt"
	"reflect"
	"strconv"
	"testing"

	"github.com/pelletier/go-toml/v2"
)

// plain turns a value into what the TOML library gives for the same text.
func plain(n *Node) any {
	switch n.Kind {
	case Text:
		return n.Text
	case Integer:
		i, _ := strconv.ParseInt(n.Text, 10, 64)
		return i
	case Boolean:
		return n.Text == "true"
	case List:
		out := []any{}
		for _, item := range n.Items {
			out = append(out, plain(item))
		}
		return out
	case Table:
		out := map[string]any{}
		for _, e := range n.Entries {
			out[e.Key] = plain(e.Value)
		}
		return out
	}
	return n.Text
}

func read(t *testing.T, text string) (*Node, []string) {
	t.Helper()
	var faults []string
	root := ReadTOML([]byte(text), func(line, column int, message string) {
		faults = append(faults, fmt.Sprintf("%d:%d: %s", line, column, message))
	})
	return root, faults
}

func TestAgainstTheLibrary(t *testing.T) {
	for _, text := range []string{
		"", "a = 1\nb = \"x\"\n", "[t]\na.b.c = true\n[t.d]\ne = [1, 2, [3]]\n", "[[l]]\nx = 1\n[[l]]\nx = 2\n[l.sub]\ny = 3\n",
		"s = '''\nraw \\n\n'''\nm = \"\"\"\\\n  joined \\\n  up\"\"\"\n", "i = 0x1F\nn = -1_000\n", "t = { a = 1, b = { c = \"d\" } }\n", "\"quoted key\".'x y' = 1\n[a.\"b.c\"]\nz = 'é'\n",
		"l = [ # comment\n 1,\n # more\n 2,\n]\n", "[a]\n[a.b]\n[c]\n",
	} {
		var want map[string]any
		if err := toml.Unmarshal([]byte(text), &want); err != nil {
			t.Fatalf("%q: %v", text, err)
		}
		if want == nil {
			want = map[string]any{}
		}
		root, faults := read(t, text)
		if got := plain(root); !reflect.DeepEqual(got, any(want)) || len(faults) > 0 {
			t.Errorf("%q: got %#v (%v), want %#v", text, got, faults, want)
		}
	}
}

func TestPlacesOfKeysAndValues(t *testing.T) {
	root, _ := read(t, "# é\n[task.\"a b\"]\nrun  = \"x\"\nenv = { É = \"y\",\n}\n[[via]]\n  n = 1\n")
	e := root.Get("task").Entries[0]
	if e.Key != "a b" || e.Line != 2 || e.Column != 7 {
		t.Errorf("table: %+v", e)
	}
	if run := e.Value.Entries[0]; run.Line != 3 || run.Column != 1 || run.Value.Line != 3 || run.Value.Column != 8 {
		t.Errorf("run: %+v at %d:%d", run, run.Value.Line, run.Value.Column)
	}
	if n := root.Get("via").Items[0].Entries[0]; n.Line != 7 || n.Column != 3 {
		t.Errorf("n: %+v", n)
	}
}

// A mistake costs its table at most; each is told at its place.
func TestMistakes(t *testing.T) {
	for _, c := range []struct {
		text, fault string
		keeps       string // a table behind the mistake
	}{
		{"[a]\nx = \n[b]\ny = 1\n", "2:", "b"},
		{"[a\nx = 1\n[b]\ny = 1\n", "1:", "b"},
		{"[a]\nx = \"open\n[b]\ny = 1\n", "2:", "b"},
		{"[a]\nx = 1\nx = 2\n[b]\ny = 1\n", "3:1: the key x stands twice; the first counts", "b"},
		{"[a]\nx = 1\n[a]\nz = 2\n[b]\ny = 1\n", "3:2: the table a stands twice; both were read", "b"},
		{"a = 1\n[a.c]\n[b]\ny = 1\n", "2:2: a is no table here, it is an integer above", "b"},
		{"[a]\nx = 1 2\n[b]\ny = 1\n", "2:", "b"},
	} {
		root, faults := read(t, c.text)
		if len(faults) != 1 || len(faults[0]) < len(c.fault) || faults[0][:len(c.fault)] != c.fault {
			t.Errorf("%q: faults %q, want one at %s", c.text, faults, c.fault)
		}
		if root.Get(c.keeps).Get("y") == nil {
			t.Errorf("%q: the table %s is lost", c.text, c.keeps)
		}
	}
	var none *Node
	if none.Get("x") != nil || none.Str() != "" || none.Strs() != nil {
		t.Error("nothing gives nothing")
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("[a]\nb = [1, {c = 'd'}]\n[[e]]\n"))
	f.Add([]byte("\ufeff[x\n[y]\nz=\"\"\"\n[q]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		told := 0
		root := ReadTOML(data, func(line, column int, _ string) {
			if told++; line < 1 || column < 1 {
				t.Errorf("a mistake without a place: %d:%d", line, column)
			}
		})
		var want map[string]any
		if err := toml.Unmarshal(data, &want); err == nil && told > 0 && len(data) > 0 && data[0] < 0x80 {
			t.Errorf("%q: the library finds no mistake, we tell %d", data, told)
		}
		plain(root)
	})
}
