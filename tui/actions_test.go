package tui

import (
	"slices"
	"strings"
	"testing"
	"time"
)

// offered returns the keys in the list of what can be done with the chosen row, and leaves it.
func offered(t *testing.T, m *Model) (keys []string) {
	t.Helper()
	m.do("space")
	if m.choice == nil || !m.choice.keyed {
		t.Fatalf("no list on %s:\n%s", m.at.name(), strings.Join(m.screen(), "\n"))
	}
	for _, a := range m.choice.answers {
		keys = append(keys, a.about)
	}
	m.do("esc")
	return keys
}

// The list holds what applies to the row, and nothing else: before a run, while it runs, after it, on the page of its
// problems.
func TestWhatCanBeDoneWithARow(t *testing.T) {
	m := open(t, map[string]string{
		"Makefile":       "all: ; @echo 'a.c:1:5: error: bad x'; exit 1\n",
		"a.c":            "int x;\n",
		"tidytally.toml": "[task.serve]\nrun = \"echo up on http://127.0.0.1:1/; exec sleep 100\"\nready = 'up on (?P<url>\\S+)'\n",
	})
	check := func(when string, with, without string) {
		t.Helper()
		keys := offered(t, m)
		for _, k := range strings.Fields(with) {
			if !slices.Contains(keys, k) {
				t.Errorf("%s: %s is not among %q", when, k, keys)
			}
		}
		for _, k := range strings.Fields(without) {
			if slices.Contains(keys, k) {
				t.Errorf("%s: %s is among %q", when, k, keys)
			}
		}
	}
	choose := func(name string) {
		m.do("/")
		for _, c := range "name:" + name {
			m.do(string(c))
		}
		m.do("enter")
	}
	choose("all")
	check("not run yet", "enter a p c e A L C E V l tab", "r o y x i b S F R / g h q ?")
	m.do("enter")
	m.finish(t)
	check("after a run", "enter r o y", "x i b")
	m.do("y")
	check("on a problem", "enter f w c r o", "R x i y /")
	m.do("t", "esc")
	choose("serve")
	m.do("enter")
	for deadline := time.Now().Add(20 * time.Second); !m.hasAddress(); time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("it tells no address")
		}
	}
	check("while it is up", "x i b o", "L")
	m.do("x")
	m.finish(t)
	check("stopped", "r o", "x i")
}

// What is chosen in the list is done; what is typed finds it.
func TestFoundAmongWhatCanBeDone(t *testing.T) {
	m := open(t, map[string]string{"Makefile": "all: ; @true\nother: ; @true\n"})
	m.do("space")
	for _, c := range "pin" {
		m.do(string(c))
	}
	m.do("enter")
	if text := strings.Join(m.screen(), "\n"); m.choice != nil || !strings.Contains(text, "pinned") {
		t.Errorf("nothing is pinned:\n%s", text)
	}
}

// The help finds keys of other pages, and puts those for other rows behind those for this one.
func TestHelpOfOtherRowsAndPages(t *testing.T) {
	m := open(t, map[string]string{"Makefile": "all: ; @true\n"})
	m.width, m.height = 120, 70
	m.do("?")
	text := strings.Join(m.screen(), "\n")
	here, other := strings.Index(text, "with the chosen row"), strings.Index(text, "on other rows")
	pin, stop := strings.Index(text, "pin or unpin"), strings.Index(text, "stop the task that runs")
	if here < 0 || other < here || pin < here || pin > other || stop < other {
		t.Errorf("the order of the help:\n%s", text)
	}
	m.do("?", "l", "?")
	for _, c := range "compare" {
		m.do(string(c))
	}
	if text := strings.Join(m.screen(), "\n"); !strings.Contains(text, "= on history") {
		t.Errorf("no key of another page:\n%s", text)
	}
}
