package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"tidytally/core/learn"
	"tidytally/core/task"
)

// knows makes the records of a task from words such as "read:a.c made:a.o runs:prog missing:x.h hashless:b".
func knows(text string) learn.Records {
	k := &learn.Known{Origin: learn.Watched}
	for _, w := range strings.Fields(text) {
		role, name, _ := strings.Cut(w, ":")
		s := learn.Stamp{Path: name, Hash: 7}
		switch role {
		case "read":
			s.Role = learn.Read
		case "hashless":
			s.Role, s.Hash = learn.Read, 0
		case "made":
			s.Role = learn.Made
		case "runs":
			s.Role = learn.Runs
		case "missing":
			s.Role = learn.Missing
		case "listed":
			s.Role = learn.Listed
		}
		k.Stamps = append(k.Stamps, s)
	}
	return learn.Records{learn.Watched: k}
}

// offered describes offers: what comes before what, for which files, with "!" where it is executed.
func offered(offers []Offer) string {
	var out []string
	for _, o := range offers {
		w := o.Before.Name + "->" + o.Task.Name + "(" + strings.Join(o.Files, ",") + ")"
		if o.Launches {
			w += "!"
		}
		out = append(out, w)
	}
	return strings.Join(out, " ")
}

// What reads or runs a file that another task makes is offered that one, once, and the likeliest of several.
func TestOffersOfMakers(t *testing.T) {
	for name, c := range map[string]struct {
		tasks   string // of all, the first is asked about
		records map[string]string
		program string
		change  func(tasks []*task.Task)
		want    string
	}{
		"it reads what is made":            {tasks: "eat;shape", records: map[string]string{"eat": "read:bowl", "shape": "made:bowl"}, want: "shape->eat(bowl)"},
		"it runs what is made":             {tasks: "eat;shape", records: map[string]string{"eat": "runs:bowl read:bowl", "shape": "made:bowl"}, want: "shape->eat(bowl)!"},
		"its program is made":              {tasks: "eat;shape", records: map[string]string{"shape": "made:bin/bowl"}, program: "/w/bin/bowl", want: "shape->eat(bin/bowl)!"},
		"its program is elsewhere":         {tasks: "eat;shape", records: map[string]string{"shape": "made:bowl"}, program: "/usr/bin/bowl"},
		"it has no program":                {tasks: "eat;shape", records: map[string]string{"shape": "made:."}},
		"what it looked for is made":       {tasks: "eat;shape", records: map[string]string{"eat": "missing:bowl", "shape": "made:bowl"}, want: "shape->eat(bowl)"},
		"what it looked for is only named": {tasks: "eat;shape", records: map[string]string{"eat": "missing:bowl"}, change: func(ts []*task.Task) { ts[1].Makes = []string{"bowl"} }},
		"what it reads is declared":        {tasks: "eat;shape", records: map[string]string{"eat": "read:sub/bowl"}, change: func(ts []*task.Task) { ts[1].Makes = []string{"sub/*"} }, want: "shape->eat(sub/bowl)"},
		"declared in a folder":             {tasks: "eat;shape", records: map[string]string{"eat": "read:kiln/bowl read:bowl"}, change: func(ts []*task.Task) { ts[1].Makes, ts[1].Dir = []string{"bowl"}, "kiln" }, want: "shape->eat(kiln/bowl)"},
		"what it makes itself":             {tasks: "eat;shape", records: map[string]string{"eat": "read:bowl missing:cup made:bowl made:cup", "shape": "made:bowl made:cup"}},
		"only that it is there":            {tasks: "eat;shape", records: map[string]string{"eat": "hashless:bowl listed:cup read:.", "shape": "made:bowl made:cup made:."}},
		"outside of the workspace":         {tasks: "eat;shape", records: map[string]string{"eat": "read:/usr/bowl", "shape": "made:/usr/bowl"}},
		"in its plan already":              {tasks: "eat before=shape;shape", records: map[string]string{"eat": "read:bowl", "shape": "made:bowl"}},
		"that would be a cycle":            {tasks: "eat;shape before=eat", records: map[string]string{"eat": "read:bowl", "shape": "made:bowl"}},
		"itself":                           {tasks: "eat", records: map[string]string{"eat": "read:bowl"}, change: func(ts []*task.Task) { ts[0].Makes = []string{"bowl"} }},
		"what cleans":                      {tasks: "eat;shape", records: map[string]string{"eat": "read:bowl", "shape": "made:bowl"}, change: func(ts []*task.Task) { ts[1].Kind = task.Clean }},
		"what stays up":                    {tasks: "eat;shape up=", records: map[string]string{"eat": "read:bowl", "shape": "made:bowl"}},
		"what only names others":           {tasks: "eat;shape", records: map[string]string{"eat": "read:bowl", "shape": "made:bowl"}, change: func(ts []*task.Task) { ts[1].Command = task.Command{} }},
		"a part of a suite":                {tasks: "eat;shape", records: map[string]string{"eat": "read:bowl", "shape": "made:bowl"}, change: func(ts []*task.Task) { ts[1].PartOf = "all" }},
		"a build goes first":               {tasks: "eat;ash;shape", records: map[string]string{"eat": "read:bowl", "shape": "made:bowl", "ash": "made:bowl"}, change: func(ts []*task.Task) { ts[2].Kind = task.Build }, want: "shape->eat(bowl)"},
		"then what makes more of it":       {tasks: "eat;ash;shape", records: map[string]string{"eat": "read:bowl read:cup", "shape": "made:bowl made:cup", "ash": "made:bowl"}, want: "shape->eat(bowl,cup)"},
		"then the shorter name":            {tasks: "eat;shapes;shape;shaped", records: map[string]string{"eat": "read:bowl", "shape": "made:bowl", "shapes": "made:bowl", "shaped": "made:bowl"}, want: "shape->eat(bowl)"},
		"then the first name":              {tasks: "eat;shapf;shape", records: map[string]string{"eat": "read:bowl", "shape": "made:bowl", "shapf": "made:bowl"}, want: "shape->eat(bowl)"},
		"what is in the plan is enough":    {tasks: "eat before=ash;shape;ash", records: map[string]string{"eat": "read:bowl", "shape": "made:bowl", "ash": "made:bowl"}, change: func(ts []*task.Task) { ts[1].Kind = task.Build }},
		"two makers of two files":          {tasks: "eat;shape;ash", records: map[string]string{"eat": "read:bowl runs:cup", "shape": "made:bowl", "ash": "made:cup"}, want: "ash->eat(cup)! shape->eat(bowl)"},
		"nothing is known of it":           {tasks: "eat;shape", records: map[string]string{"shape": "made:bowl"}},
	} {
		var tasks []*task.Task
		for _, text := range strings.Split(c.tasks, ";") {
			x := declare(text)
			for i := range x.Before {
				x.Before[i] = "tidytally.toml#" + x.Before[i]
			}
			x.Dir = "."
			tasks = append(tasks, x)
		}
		if c.change != nil {
			c.change(tasks)
		}
		known := func(id string) learn.Records {
			_, name := task.SplitID(id)
			return knows(c.records[name])
		}
		if got := offered(Offers(tasks, tasks[0], known, "/w", c.program)); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// A fresh step is unknown behind one that will make anew what it reads, however far behind; and so on from it.
func TestFreshBehindWhatRuns(t *testing.T) {
	tasks := []*task.Task{declare("clay"), declare("bowl before=tidytally.toml#clay"), declare("glaze before=tidytally.toml#bowl"), declare("fire before=tidytally.toml#glaze"), declare("aside"), declare("all before=tidytally.toml#fire,tidytally.toml#aside")}
	p, err := Of(tasks, tasks[5])
	if err != nil {
		t.Fatal(err)
	}
	records := map[string]string{"clay": "made:clay made:dust", "bowl": "read:mud made:bowl", "glaze": "read:clay read:ash made:glazed", "fire": "read:zinc read:glazed read:bowl made:fired", "aside": "read:clay", "all": ""}
	known := func(id string) learn.Records {
		_, name := task.SplitID(id)
		return knows(records[name])
	}
	for _, c := range []struct {
		states string // of clay, bowl, glaze, fire, aside, all
		want   string
	}{
		{"needed fresh fresh fresh fresh needed", "needed fresh unknown(clay makes clay) unknown(glaze makes glazed) fresh needed"},
		{"fresh needed fresh fresh fresh needed", "fresh needed fresh unknown(bowl makes bowl) fresh needed"},
		{"fresh fresh fresh fresh fresh needed", "fresh fresh fresh fresh fresh needed"},
		{"needed needed needed needed needed needed", "needed needed needed needed needed needed"},
		{"unknown fresh fresh fresh fresh needed", "unknown fresh fresh fresh fresh needed"},
	} {
		looks := make([]Outlook, len(p.Steps))
		states := map[string]State{"needed": Needed, "fresh": Fresh, "unknown": Unknown}
		for i, s := range strings.Fields(c.states) {
			for k := range p.Steps {
				if p.Steps[k].Task == tasks[i] {
					looks[k].State = states[s]
				}
			}
		}
		p.Follow(looks, known)
		var got []string
		for _, x := range tasks {
			k := slices.IndexFunc(p.Steps, func(s Step) bool { return s.Task == x })
			for word, s := range states {
				if looks[k].State == s {
					if len(looks[k].Why) > 0 {
						word += "(" + strings.TrimSuffix(looks[k].Why[0], " before it") + ")"
					}
					got = append(got, word)
				}
			}
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s: %s, want %s", c.states, text, c.want)
		}
	}
}

// Whether steps run at the same time, and how long the plan takes at least.
func TestConcurrentAndLongest(t *testing.T) {
	times := map[string]time.Duration{"a": 2, "b": 3, "c": 4, "d": 1, "main": 5, "late": 50, "later": 60, "up": 100}
	for text, want := range map[string]string{
		"main":                                         "false 5",
		"main before=a;a":                              "false 7",
		"main before=a;a before=b;b":                   "false 10",
		"main before=a,b;a;b":                          "true 8",
		"main before=a,b;a;b before=a":                 "false 10",
		"main before=a,d;a before=b;b;d before=c;c":    "true 10",
		"main with=c;c":                                "true 5",
		"main before=up;up up=":                        "true 5",
		"main after=late;late":                         "false 5",
		"main after=late,later;late;later":             "true 5",
		"main after=late,later;late;later before=late": "false 5",
		"main before=a after=late;a;late":              "false 7",
		"main before=a,x;a;x":                          "true 0",
		"main before=x;x":                              "false 0",
		"main after=x;x":                               "false 5",
	} {
		var tasks []*task.Task
		for _, one := range strings.Split(text, ";") {
			x := declare(one)
			for _, list := range []*[]string{&x.Before, &x.With, &x.After} {
				for i := range *list {
					(*list)[i] = "tidytally.toml#" + (*list)[i]
				}
			}
			tasks = append(tasks, x)
		}
		p, err := Of(tasks, tasks[0])
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		longest := p.Longest(func(x *task.Task) (time.Duration, bool) {
			d, known := times[x.Name]
			return d, known
		})
		if got := fmt.Sprintf("%v %d", p.Concurrent(), longest); got != want {
			t.Errorf("%s: %s, want %s (%s)", text, got, want, words(p))
		}
	}
}

// The files of a shard are the same wherever it is worked out, and each shard has as much to do: to the file.
func TestSharesToTheFile(t *testing.T) {
	tasks, s := suite(6)
	took := map[string]float64{"f0": 8, "f1": 4, "f2": 3, "f3": 0, "f4": 1}
	how := Split{Shards: 2, Took: func(id string) float64 {
		_, name := task.SplitID(id)
		return took[name]
	}}
	// The average of what is known is 4: f3 and f5 count as 4.
	for shard, want := range map[int]string{1: "f0 f5", 2: "f1 f3 f2 f4"} {
		how.Shard = shard
		var names []string
		for _, x := range how.share(slices.Clone(Parts(tasks, s))) {
			names = append(names, x.Name)
		}
		if got := strings.Join(names, " "); got != want {
			t.Errorf("shard %d: %s, want %s", shard, got, want)
		}
	}
	how.Shard, how.Shards, how.Took = 0, 0, func(string) float64 { return 0 }
	if all := how.share(Parts(tasks, s)); len(all) != 6 || all[0].Name != "f0" || all[5].Name != "f5" {
		t.Errorf("without measures: %d files, %s first", len(all), all[0].Name)
	}
}

// The outlook of a task before it runs, from declarations, inference and watching.
func TestOutlooks(t *testing.T) {
	root := t.TempDir()
	fresh := func(o learn.Origin) *learn.Known { return &learn.Known{Origin: o, Run: 3, Started: time.Unix(9, 0)} }
	other := func(o learn.Origin) *learn.Known {
		return &learn.Known{Origin: o, Run: 4, Setting: learn.Setting{Dir: "/elsewhere", Env: map[string]uint64{"A": 1, "B": 1, "C": 1, "D": 1, "E": 1}}}
	}
	never := func(o learn.Origin) *learn.Known { return &learn.Known{Origin: o, Never: "it used the network"} }
	for name, c := range map[string]struct {
		reads    []string
		inferred bool
		records  learn.Records
		now      error
		want     string
	}{
		"nothing is known":             {want: "unknown"},
		"nothing is on record":         {reads: []string{"*.c"}, want: "needed: no good run is on record"},
		"watched, fresh":               {records: learn.Records{learn.Watched: fresh(learn.Watched)}, want: "fresh of run 3"},
		"watched, another":             {records: learn.Records{learn.Watched: other(learn.Watched)}, want: "needed, 6: it runs in another folder, A in the environment is another one, B in the environment is another one, C in the environment is another one, D in the environment is another one, and 1 more"},
		"watched, never":               {records: learn.Records{learn.Watched: never(learn.Watched)}, want: "unknown: it used the network"},
		"declared goes before watched": {reads: []string{"*.c"}, records: learn.Records{learn.Declared: fresh(learn.Declared), learn.Watched: other(learn.Watched)}, want: "fresh of run 3"},
		"inferred goes with watched":   {reads: []string{"*.c"}, inferred: true, records: learn.Records{learn.Declared: fresh(learn.Declared), learn.Watched: never(learn.Watched)}, want: "unknown: it used the network"},
		"inferred, not fresh":          {reads: []string{"*.c"}, inferred: true, records: learn.Records{learn.Declared: never(learn.Declared), learn.Watched: fresh(learn.Watched)}, want: "unknown: it used the network"},
		"what it is given is not told": {records: learn.Records{learn.Watched: fresh(learn.Watched)}, now: fmt.Errorf("no value for X"), want: "unknown: no value for X"},
	} {
		x := declare("fire")
		x.Reads = c.reads
		manner := task.Declared
		if c.inferred {
			manner = task.Inferred
		}
		x.SetOrigin("reads", task.Origin{File: "x", Manner: manner})
		o := OutlookOf(x, c.records, root, func() (learn.Setting, error) { return learn.Setting{}, c.now })
		got := map[State]string{Needed: "needed", Fresh: "fresh", Unknown: "unknown"}[o.State]
		if o.State == Fresh {
			got += fmt.Sprintf(" of run %d", o.Run)
			if !o.Since.Equal(time.Unix(9, 0)) || o.Stale() {
				t.Errorf("%s: since %v", name, o.Since)
			}
		}
		if o.Reasons > 0 {
			got += fmt.Sprintf(", %d", o.Reasons)
		}
		if len(o.Why) > 0 {
			got += ": " + strings.Join(o.Why, ", ")
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
	group := declare("group")
	group.Command = task.Command{}
	if o := OutlookOf(group, nil, root, nil); o.State != Needed || o.Stale() {
		t.Errorf("what only names others: %+v", o)
	}
}

// A cycle is told once, at the value that closes it: what comes before is declared as what a task needs, and packages
// that come before are there for the sake of the task that asks for them.
func TestWhereCyclesAreTold(t *testing.T) {
	at := func(x *task.Task, field string, line int) {
		x.SetOrigin(field, task.Origin{File: x.Name, Line: line, Column: 3})
	}
	id := func(name string) string { return "tidytally.toml#" + name }
	a, b, c, d, e := declare("a"), declare("b"), declare("c"), declare("d"), declare("e")
	a.Before, b.Before = []string{id("b")}, []string{id("a")}
	at(a, "needs", 1)
	at(b, "needs", 2)
	c.After, d.After = []string{id("c")}, nil
	at(c, "after", 3)
	d.PackagesBefore, d.Upstream, e.Upstream = "build", []string{id("e")}, []string{id("d")}
	at(d, "packages_before", 4)
	at(e, "packages_before", 5)
	f, g := declare("f"), declare("g")
	f.With, g.With = []string{id("g")}, []string{id("f")} // partners do not wait for each other
	var got []string
	for _, fault := range Cycles([]*task.Task{a, b, c, d, e, f, g}) {
		got = append(got, fmt.Sprintf("%s:%d:%d", fault.File, fault.Line, fault.Column))
	}
	if text := strings.Join(got, " "); text != "b:2:3 d:4:3" && text != "b:2:3 c:3:3 d:4:3" {
		t.Errorf("told at %s", text)
	}
	if p, err := Of([]*task.Task{f, g}, f); err != nil || words(p) != "with-f:g f" && words(p) != "with-f:g:g f" {
		t.Errorf("partners: %v, %v", words(p), err)
	}
}
