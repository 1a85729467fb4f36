package plan

import (
	"reflect"
	"strings"
	"testing"

	"tidytally/core/learn"
	"tidytally/core/task"
)

// A step that is fresh is not known to be so once a step before it makes a file anew that it reads, however
// many steps lie between; what other steps read says nothing of it.
func TestAStepBehindOneThatRuns(t *testing.T) {
	files := func(line string) learn.Records { // READ ... > MADE ...
		k := &learn.Known{}
		read, made, _ := strings.Cut(line, ">")
		for _, f := range strings.Fields(read) {
			k.Stamps = append(k.Stamps, learn.Stamp{Path: f, Role: learn.Read})
		}
		for _, f := range strings.Fields(made) {
			k.Stamps = append(k.Stamps, learn.Stamp{Path: f, Role: learn.Made})
		}
		return learn.Records{learn.Watched: k}
	}
	known := map[string]learn.Records{
		"M#dig":    files("hill > clay"),
		"M#throw":  files("clay wheel > bowl"),
		"M#glaze":  files("ash > glaze"),
		"M#fire":   files("bowl glaze > pot"),
		"M#sweep":  files("floor"),
		"M#rework": files("clay > clay bowl"), // makes what it reads, and what another step makes too
	}
	names := []string{"dig", "throw", "glaze", "sweep", "fire", "rework"}
	p := &Plan{Steps: []Step{{}, {After: []int{0}}, {}, {After: []int{0}}, {After: []int{1, 2, 3}}, {}}}
	for i, name := range names {
		p.Steps[i].Task = &task.Task{File: "M", Name: name}
	}
	for _, c := range []struct{ needed, want string }{
		{"", ""},
		{"dig", "throw: dig makes clay before it, fire: throw makes bowl before it"},
		{"throw", "fire: throw makes bowl before it"},
		{"glaze", "fire: glaze makes glaze before it"},
		{"sweep", ""},
		{"fire", ""},
		{"rework", ""}, // nothing waits for it
		{"throw glaze", "fire: throw makes bowl before it"},
		{"throw rework", "fire: throw makes bowl before it"},
	} {
		looks := make([]Outlook, len(names))
		for i, name := range names {
			looks[i] = Outlook{State: Fresh}
			for _, n := range strings.Fields(c.needed) {
				if n == name {
					looks[i] = Outlook{State: Needed}
				}
			}
		}
		before := append([]Outlook(nil), looks...)
		p.Follow(looks, func(id string) learn.Records { return known[id] })
		var got []string
		for i := range looks {
			if looks[i].State == Unknown {
				got = append(got, names[i]+": "+strings.Join(looks[i].Why, " and "))
			} else if !reflect.DeepEqual(looks[i], before[i]) {
				t.Errorf("%s needed: %s is %+v", c.needed, names[i], looks[i])
			}
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%q needed: %q, want %q", c.needed, got, c.want)
		}
	}
}
