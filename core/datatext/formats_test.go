package datatext

import (
	"fmt"
	"strings"
	"testing"
)

// shape writes a value with the lines of its parts, to compare.
func shape(n *Node) string {
	if n == nil {
		return "nothing"
	}
	switch n.Kind {
	case List:
		var items []string
		for _, item := range n.Items {
			items = append(items, shape(item))
		}
		return "[" + strings.Join(items, " ") + "]"
	case Table:
		var entries []string
		for _, e := range n.Entries {
			entries = append(entries, fmt.Sprintf("%s@%d:%s", e.Key, e.Line, shape(e.Value)))
		}
		return "{" + strings.Join(entries, " ") + "}"
	}
	return fmt.Sprintf("%s(%s)", n.Text, strings.TrimPrefix(strings.TrimPrefix(n.Kind.String(), "a "), "an "))
}

// The same data in four forms is the same value, but for what a form cannot
// tell apart.
func TestFormatsGiveTheSame(t *testing.T) {
	for format, text := range map[Format]string{
		JSON: "{\n  // jobs\n  \"job\": [\n    {\"name\": \"a\", \"args\": [\"x\", \"y\"]},\n    {\"name\": \"b\", \"on\": true,},\n  ],\n}",
		YAML: "# jobs\njob:\n  - name: a\n    args: [x, y]\n  - name: b\n    on: true\n",
		TOML: "# jobs\n[[job]]\nname = \"a\"\nargs = [\"x\", \"y\"]\n[[job]]\nname = 'b'\non = true\n",
		XML:  "<?xml version=\"1.0\"?>\n<!-- jobs -->\n<all><job name=\"a\"><args>x</args><args>y</args></job>\n<job name=\"b\"><on>true</on></job></all>\n",
	} {
		n := Read(format, []byte(text), func(line, column int, message string) { t.Errorf("%s: %d:%d: %s", format, line, column, message) })
		if format == XML {
			n = n.Get("all")
		}
		job := n.Get("job")
		if job == nil || len(job.Items) != 2 {
			t.Errorf("%s: %s", format, shape(n))
			continue
		}
		a, b := job.Items[0], job.Items[1]
		if a.Get("name").Str() != "a" || strings.Join(a.Get("args").Strs(), " ") != "x y" || b.Get("name").Str() != "b" || b.Get("on").Text != "true" {
			t.Errorf("%s: %s", format, shape(n))
		}
		if b.Line <= a.Line {
			t.Errorf("%s: lines %d and %d", format, a.Line, b.Line)
		}
	}
}

func TestShapes(t *testing.T) {
	for _, c := range []struct {
		format     Format
		text, want string
	}{
		{JSON, `[1, 2.5, null, false, "x"]`, "[1(integer) 2.5(float) null(nothing) false(boolean) x(string)]"},
		{YAML, "a: &x {k: 1}\nb:\n  <<: *x\n  k: 2\nc: *x\n", "{a@1:{k@1:1(integer)} b@2:{k@4:2(integer)} c@5:{k@1:1(integer)}}"},
		{YAML, "- 2026-11-25\n- ~\n- 'yes'\n", "[2026-11-25(date) ~(nothing) yes(string)]"},
		{YAML, "a: 1\n---\nb: 2\n", "[{a@1:1(integer)} {b@3:2(integer)}]"},
		{YAML, "a: 1\na: 2\n", "{a@2:2(integer)}"},
		{XML, "<a x='1'>text<b/></a>", "{a@1:{x@1:1(string) b@1:(string) text@1:text(string)}}"},
		{XML, "<a>\n<b>1</b>\n<c/>\n<b>2</b>\n</a>", "{a@1:{b@2:[1(string) 2(string)] c@3:(string)}}"},
		{YAML, "", "nothing"},
	} {
		got := shape(Read(c.format, []byte(c.text), func(line, column int, message string) { t.Errorf("%q: %d:%d: %s", c.text, line, column, message) }))
		if got != c.want {
			t.Errorf("%s of %q:\ngot  %s\nwant %s", c.format, c.text, got, c.want)
		}
	}
}

// A mistake is told with its line, and what stood before is there.
func TestMistakesAreLocated(t *testing.T) {
	for _, c := range []struct {
		format     Format
		text       string
		line       int
		words, has string
	}{
		{JSON, "{\"a\": 1,\n\"b\": }", 2, "a value should stand here", "a"},
		{YAML, "a: 1\n---\nb: [1\n", 3, "YAML", "a"},
		{YAML, "a: 1\n---\nb: c: d\n", 3, "YAML", "a"},
		{XML, "<r>\n<a>1</a>\n<b></c></r>", 3, "XML", "a"},
		{TOML, "a = 1\nb = = 2\n", 2, "TOML", "a"},
	} {
		line, message := 0, ""
		n := Read(c.format, []byte(c.text), func(l, _ int, m string) {
			if message == "" {
				line, message = l, m
			}
		})
		if line != c.line || !strings.Contains(message, c.words) {
			t.Errorf("%s: line %d, %q", c.format, line, message)
		}
		if c.format == XML {
			n = n.Get("r")
		}
		if n.Get(c.has) == nil {
			t.Errorf("%s: what stood before is lost: %s", c.format, shape(n))
		}
	}
}

// Bombs of aliases and of entities, depths and sizes have bounds that say so.
func TestBounds(t *testing.T) {
	var bomb strings.Builder
	bomb.WriteString("a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n")
	for i := 1; i < 12; i++ {
		fmt.Fprintf(&bomb, "a%d: &a%d [%s]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d, ", i-1), 10), ", "))
	}
	entities := "<!DOCTYPE a [<!ENTITY b \"bbbb\"><!ENTITY c \"&b;&b;&b;\">]>\n<a>&c;</a>"
	for name, c := range map[string]struct {
		format Format
		text   string
		words  string
	}{
		"aliases":       {YAML, bomb.String(), "grow beyond"},
		"entities":      {XML, entities, "XML"},
		"deep xml":      {XML, strings.Repeat("<a>", 10000), "deep"},
		"deep json":     {JSON, strings.Repeat("[", 10000), "deep"},
		"deep yaml":     {YAML, strings.Repeat("[", 10000), ""},
		"long yaml":     {YAML, "a: " + strings.Repeat("x", 2<<20), "at most"},
		"many keys":     {YAML, strings.Repeat("k: 1\n", 100000), ""},
		"many elements": {XML, "<a>" + strings.Repeat("<b/>", 200000) + "</a>", ""},
	} {
		told := ""
		n := Read(c.format, []byte(c.text), func(_, _ int, message string) { told += message + "\n" })
		if size := nodes(n); size > 2*maxNodes {
			t.Errorf("%s has %d nodes", name, size)
		}
		if !strings.Contains(told, c.words) {
			t.Errorf("%s: told is %q, not %q", name, told, c.words)
		}
	}
}

// nodes counts a value with all that is in it.
func nodes(n *Node) int {
	if n == nil {
		return 0
	}
	count := 1
	for _, item := range n.Items {
		count += nodes(item)
	}
	for _, e := range n.Entries {
		count += nodes(e.Value)
	}
	return count
}

func FuzzReadAny(f *testing.F) {
	for i, text := range []string{`{"a": [1, {"b": "c"}]}`, "a: [1, {b: c}]\n", "[a]\nb = ['c']\n", "<a b='c'><d/>e</a>", "&x\xff: *x\n"} {
		f.Add(i%4, []byte(text))
	}
	f.Fuzz(func(t *testing.T, which int, data []byte) {
		format := []Format{JSON, YAML, TOML, XML}[((which%4)+4)%4]
		n := Read(format, data, func(line, column int, message string) {
			if line < 0 || column < 0 || message == "" {
				t.Errorf("%d:%d: %q", line, column, message)
			}
		})
		if n != nil {
			_ = shape(n)
		}
	})
}
