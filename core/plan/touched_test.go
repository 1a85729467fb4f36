package plan

import (
	"strings"
	"testing"

	"tidytally/core/learn"
	"tidytally/core/task"
)

// changes are files that differ, each with a reason.
type changes map[string]string

func (c changes) Of(name string) string { return c[name] }

func (c changes) In(string) bool { return false }

func (c changes) Files(string) []string { return nil }

func (c changes) Names() (names []string) {
	for name := range c {
		names = append(names, name)
	}
	return names
}

// What a touched task makes touches whoever reads it, over any number of tasks; where it is not known whether the maker is touched, it is
// not known of the reader.
func TestTouchesSpread(t *testing.T) {
	root := t.TempDir()
	stamp := func(role learn.Role, paths ...string) (all []learn.Stamp) {
		for _, p := range paths {
			all = append(all, learn.Stamp{Path: p, Role: role, Size: -1}) // missing, so that nothing has changed since
		}
		return all
	}
	records := map[string]learn.Records{}
	plans := map[string]*Plan{}
	add := func(name, unsure string, reads, makes []string) {
		one := &task.Task{File: "tidytally.toml", Name: name, Dir: ".", Command: task.Command{Shell: "make " + name}}
		plans[one.ID()] = &Plan{Task: one, Steps: []Step{{Task: one, Role: Main}}}
		records[one.ID()] = learn.Records{learn.Watched: {Unsure: unsure, Stamps: append(stamp(learn.Read, reads...), stamp(learn.Made, makes...)...)}}
	}
	add("gen", "", []string{"glazes.csv"}, []string{"out/glazes.c"})
	add("lib", "", []string{"out/glazes.c"}, []string{"out/lib.a"})
	add("prog", "", []string{"main.c", "out/lib.a"}, []string{"out/prog"})
	add("docs", "", []string{"notes"}, []string{"out/docs"})
	add("odd", "it is not sure", []string{"x"}, []string{"out/odd"})
	add("fed", "", []string{"out/odd"}, nil)
	look := func(c changes) string {
		found := TouchedSince(c, plans, records, root, func(*task.Task) (learn.Setting, error) { return learn.Setting{}, nil })
		var all []string
		for _, name := range []string{"gen", "lib", "prog", "docs", "odd", "fed"} {
			f := found["tidytally.toml#"+name]
			all = append(all, name+" "+string(f.State)+" "+strings.Join(f.Why, ", "))
		}
		return strings.Join(all, "\n")
	}
	odd := "\nodd unknown it is not sure since it was watched, so that it may read other files\nfed unknown odd makes out/odd, and whether it is touched is not known"
	for _, c := range []struct {
		changed changes
		want    string
	}{
		{nil, "gen untouched \nlib untouched \nprog untouched \ndocs untouched " + odd},
		{changes{"glazes.csv": "glazes.csv changed"}, "gen touched glazes.csv changed\nlib touched gen makes out/glazes.c\nprog touched lib makes out/lib.a\ndocs untouched " + odd},
		{changes{"notes": "notes is gone", "x": "x changed"}, "gen untouched \nlib untouched \nprog untouched \ndocs touched notes is gone\nodd touched x changed\nfed touched odd makes out/odd"},
	} {
		if got := look(c.changed); got != c.want {
			t.Errorf("%v:\n%s\nwant\n%s", c.changed, got, c.want)
		}
	}
	if got := look(changes{"tidytally.toml": "tidytally.toml changed"}); strings.Count(got, "touched tidytally.toml changed, which declares it") != len(plans) {
		t.Errorf("where the declaration changed:\n%s", got)
	}
}
