package tui

import (
	"cmp"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/plan"
	"tidytally/core/run"
	"tidytally/core/secret"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/toolchain"
	"tidytally/core/workspace"
)

func (p *tasksPage) keys() []key {
	return append([]key{
		{names: []string{"enter"}, goal: toRun, label: "run", help: "run the chosen task", ofRow: true, act: p.runChosen},
		{names: []string{"r"}, goal: toRun, help: "run the task again, with the same arguments", ofRow: true, when: p.ranBefore, act: p.runLastAgain},
		{names: []string{"a"}, goal: toRun, label: "arguments", help: "run with arguments", here: p.argumentsHere, ofRow: true, when: p.some, act: p.askArguments},
		{names: []string{"/"}, goal: toFind, label: "find", help: "filter the tasks: words, kind: in: from: name: runs: is:, - for not", here: p.filterHere, act: p.beginFind},
		{names: []string{"u"}, goal: toRun, label: "usual", late: true, help: "run the usual task", here: p.usualHere, act: p.runUsual},
		{names: []string{"U"}, goal: toWrite, help: "choose the usual task, and where the choice is kept", act: p.chooseUsual},
		{names: []string{"p"}, goal: toWrite, help: "pin or unpin the task", ofRow: true, when: p.some, act: p.pinChosen},
		{names: []string{"g"}, goal: toFind, help: "group the tasks by folder, by kind or by source", act: p.nextGrouping},
		{names: []string{"f"}, goal: toFind, help: "choose the current file among all files, or let it go", act: p.chooseFile},
		{names: []string{"c"}, goal: toWrite, label: "copy", late: true, help: "copy the command", ofRow: true, when: p.some, act: p.copyCommand},
		{names: []string{"e"}, help: "open the editor where the task is declared", ofRow: true, when: p.some, act: p.openDeclaration},
		{names: []string{"d"}, help: "show or hide the details", act: p.toggleDetails},
		{names: []string{"i"}, goal: toRun, help: "give the task the keyboard; ctrl+o takes it back", ofRow: true, when: p.isRunning, act: p.giveKeyboardThere},
		{names: []string{"b"}, goal: toRun, help: "open the task's address in the browser", ofRow: true, when: p.hasAddress, act: p.openAddress},
		{names: []string{"D"}, goal: toRun, help: "run the task's program under a debugger", ofRow: true, when: p.debugs, act: p.debugChosen},
		{names: []string{"z"}, goal: toFind, help: "open what is folded, or fold what the task stands in", act: p.toggleFold},
		{names: []string{"shift+down"}, goal: toMove, help: "to the next folder", act: p.nextMember(1)},
		{names: []string{"shift+up"}, goal: toMove, help: "to the folder before", act: p.nextMember(-1)},
		{names: []string{"h"}, goal: toFind, help: "show or hide intermediate targets", act: p.toggleIntermediate},
		{names: []string{"A"}, goal: toRun, help: "run the chosen task with all its steps, also those that are fresh", ofRow: true, when: p.some, act: p.runAnyway},
		{names: []string{"L"}, goal: toRun, help: "run the task and watch it, to learn what it reads and makes: then it is known when it is fresh", ofRow: true, when: p.watches, act: p.runAndLearn},
		p.bringKey(),
	}, p.suiteKeys()...)
}

// usualHere names the usual task.
func (p *tasksPage) usualHere() string {
	if u := p.usual(); u != nil {
		return shortID(u)
	}
	return ""
}

// argumentsHere gives arguments of the chosen task as an example.
func (p *tasksPage) argumentsHere() string {
	t := p.current()
	if t == nil || len(t.Args) == 0 {
		return ""
	}
	a := t.Args[0]
	value := a.Default
	if len(a.Choices) > 0 {
		value = a.Choices[0]
	}
	return t.Name + " takes " + task.QuoteArguments([]string{a.Name + "=" + value})
}

// filterHere gives a filter that finds the chosen task.
func (p *tasksPage) filterHere() string {
	t := p.current()
	if t == nil {
		return ""
	}
	text := "kind:" + string(t.Kind)
	if f := t.Folder(); f != "." && f != task.Personal {
		text += " in:" + f
	}
	return text + " from:" + t.Source
}

// runChosen runs the chosen task, or asks for the values that it needs.
func (p *tasksPage) runChosen() tea.Cmd {
	if p.chosen < len(p.tasks) && p.rows[p.tasks[p.chosen]].fold != "" {
		return p.toggleFold()
	}
	if p.chosen < len(p.tasks) && p.rows[p.tasks[p.chosen]].opens != "" {
		return p.openCompilers()
	}
	t := p.current()
	if t == nil {
		return nil
	}
	for _, name := range run.Asks(t) {
		if !slices.ContainsFunc(t.Args, func(a task.Arg) bool { return a.Name == name && a.Default != "" }) {
			return p.askArguments()
		}
	}
	return p.start(t, nil)
}

// runLastAgain runs the chosen task with the arguments of its last run.
func (p *tasksPage) runLastAgain() tea.Cmd {
	t := p.current()
	if t == nil {
		return nil
	}
	if args, ran := p.lastArguments(t); ran {
		return p.start(t, args)
	}
	p.say(false, "%s has not run yet; enter runs it", t.Name)
	return nil
}

// runAnyway runs the chosen task and what comes before it, fresh or not.
func (p *tasksPage) runAnyway() tea.Cmd {
	t := p.current()
	if t == nil {
		return nil
	}
	of, err := plan.Of(p.snap.Survey.Tasks, t)
	if err != nil {
		p.say(true, "%v", err)
		return nil
	}
	of.Anyway = true
	return p.startPlan(of, nil)
}

// runAndLearn runs the chosen task once and watches it.
func (p *tasksPage) runAndLearn() tea.Cmd {
	t := p.current()
	switch {
	case t == nil:
		return nil
	case !run.Watches(t):
		p.say(false, "%s cannot be watched: it stays up, or runs through a launcher", t.Name)
		return nil
	}
	watched := *t
	watched.Learn = true
	return p.startMade(&watched)
}

func (p *tasksPage) runUsual() tea.Cmd {
	if u := p.usual(); u != nil {
		return p.start(u, nil)
	}
	return p.chooseUsual()
}

// beginFind opens the filter.
func (p *tasksPage) beginFind() tea.Cmd {
	p.find = filterField(p.find.String(), func() { p.finding = false }, func() { p.clear() }, p.move)
	p.find.changed = func() {
		p.moved = true
		p.arrange()
	}
	p.find.suggest = p.filterWords
	p.finding = true
	p.arrange()
	return nil
}

// filterWords suggests the fields of the filter, and the values of the field that a
// word begins with.
func (p *tasksPage) filterWords(word string) (words []string) {
	if p.snap.Survey == nil {
		return nil // it is typed before anything was read
	}
	minus := ""
	if strings.HasPrefix(word, "-") {
		minus = "-"
	}
	name, _, valued := strings.Cut(strings.TrimPrefix(word, "-"), ":")
	if !valued {
		for _, f := range task.FilterFields {
			words = append(words, minus+f+":")
		}
		return words
	}
	seen := map[string]bool{}
	for _, t := range p.snap.Survey.Tasks {
		if t.Aside() && !p.intermediate {
			continue
		}
		values, _ := task.Known{Task: t, Is: p.known}.Field(name)
		for _, v := range values {
			if !seen[v] && !strings.Contains(v, " ") {
				seen[v] = true
				words = append(words, minus+name+":"+v)
			}
		}
	}
	slices.Sort(words)
	return words
}

func (p *tasksPage) nextGrouping() tea.Cmd {
	p.grouping = (p.grouping + 1) % groupings
	p.arrange()
	p.say(false, "the tasks are grouped by %s", p.grouping)
	return nil
}

func (p *tasksPage) toggleDetails() tea.Cmd {
	if p.showsDetails() {
		p.details = detailsHidden
	} else {
		p.details = detailsShown
	}
	return nil
}

func (p *tasksPage) toggleIntermediate() tea.Cmd {
	p.intermediate = !p.intermediate
	p.arrange()
	return nil
}

func (p *tasksPage) pinChosen() tea.Cmd {
	t := p.current()
	if t == nil {
		return nil
	}
	switch {
	case p.kept.Pin(t.ID()):
		p.say(false, "%s is pinned; p unpins it", t.Name)
	case t.Pin:
		p.say(false, "%s is pinned by %s", t.Name, t.Origin("pin"))
	default:
		p.say(false, "%s is no longer pinned", t.Name)
	}
	p.save()
	p.arrange()
	return nil
}

// askArguments opens the line for arguments, with those of the last run.
func (p *tasksPage) askArguments() tea.Cmd {
	t := p.current()
	if t == nil {
		return nil
	}
	text := ""
	p.recalled = 0
	if all := p.givenTo(t).all; len(all) > 0 {
		p.recalled = len(all) - 1
		text = task.QuoteArguments(all[p.recalled])
	} else if asks := run.Asks(t); len(asks) > 0 {
		text = asks[0] + "="
	}
	p.asking, p.asked, p.finding = true, t, false
	p.arguments = newField(text,
		key{names: []string{"enter"}, label: "run", act: p.runWithArguments},
		key{names: []string{"esc", "ctrl+c"}, label: "cancel", act: func() tea.Cmd {
			p.asking = false
			return nil
		}},
		key{names: []string{"up"}, label: "earlier arguments", act: func() tea.Cmd { return p.recallArguments(-1) }},
		key{names: []string{"down"}, act: func() tea.Cmd { return p.recallArguments(1) }},
		key{names: []string{"ctrl+s"}, label: "keep under a name", act: p.namePreset},
		key{names: []string{"ctrl+t"}, label: "take kept ones", act: p.choosePreset})
	p.where = t.At
	if p.snap.Survey != nil && len(p.snap.Survey.Tally.Places) > 0 {
		p.arguments.own = append(p.arguments.own, key{names: []string{"ctrl+p"}, label: "at another place", act: func() tea.Cmd {
			p.where = p.nextPlace()
			return nil
		}})
	}
	p.presets = map[string][]string{}
	for name, text := range t.Presets {
		words, err := task.SplitWords(text)
		if err != nil {
			p.say(true, "preset %s: %v", name, err)
			continue
		}
		p.presets[name] = words
	}
	if p.session.Store() != nil {
		kept, err := p.session.Store().Presets(t.ID())
		if err != nil {
			p.say(true, "kept arguments: %v", err)
		}
		maps.Copy(p.presets, kept)
	}
	p.arguments.suggest = func(word string) []string { return argumentWords(t, word) }
	return nil
}

// namePreset opens the line for the name under which the arguments are kept.
func (p *tasksPage) namePreset() tea.Cmd {
	if p.session.Store() == nil {
		p.say(true, "the history is not open, in which arguments are kept")
		return nil
	}
	p.naming = true
	end := func() tea.Cmd {
		p.naming = false
		return nil
	}
	p.preset = newField("",
		key{names: []string{"enter"}, label: "keep", act: p.keepPreset},
		key{names: []string{"esc", "ctrl+c"}, label: "cancel", act: end})
	return nil
}

// keepPreset keeps the arguments under the name that was typed.
func (p *tasksPage) keepPreset() tea.Cmd {
	p.naming = false
	t, name := p.asked, strings.TrimSpace(p.preset.String())
	words, err := task.SplitWords(p.arguments.String())
	if name == "" || err != nil {
		p.say(true, "not kept: it needs a name, and arguments that are whole")
		return nil
	}
	words, _ = t.WithoutSecrets(words)
	if err := p.session.Store().PutPreset(t.ID(), name, words); err != nil {
		p.say(true, "not kept: %v", err)
		return nil
	}
	p.presets[name] = words
	if secret.Missing(words) {
		p.say(false, "kept as %s, without what looks like a secret", name)
		return nil
	}
	p.say(false, "kept as %s; ctrl+t takes it, tomorrow too", name)
	return nil
}

// choosePreset offers the sets of arguments that are kept for the task.
func (p *tasksPage) choosePreset() tea.Cmd {
	if len(p.presets) == 0 {
		p.say(false, "no arguments are kept for this task; ctrl+s keeps these")
		return nil
	}
	var answers []answer
	for _, name := range slices.Sorted(maps.Keys(p.presets)) {
		text := task.QuoteArguments(p.presets[name])
		answers = append(answers, answer{name, text, func() tea.Cmd {
			p.asking = true
			p.arguments.set(text)
			return nil
		}})
	}
	p.asking = false
	return p.ask("Which arguments?", answers...)
}

// argumentWords suggests the arguments that a task takes, and their values.
func argumentWords(t *task.Task, word string) (words []string) {
	name, _, valued := strings.Cut(word, "=")
	for _, a := range t.Args {
		if !valued {
			words = append(words, a.Name+"=")
		} else if a.Name == name {
			for _, c := range a.Choices {
				words = append(words, a.Name+"="+c)
			}
		}
	}
	for _, a := range run.Asks(t) {
		if !valued {
			words = append(words, a+"=")
		}
	}
	return words
}

// recallArguments brings back arguments of earlier runs.
func (p *tasksPage) recallArguments(by int) tea.Cmd {
	if all := p.givenTo(p.asked).all; len(all) > 0 {
		p.recalled = max(0, min(len(all)-1, p.recalled+by))
		p.arguments.set(task.QuoteArguments(all[p.recalled]))
	}
	return nil
}

func (p *tasksPage) runWithArguments() tea.Cmd {
	t := p.declared(p.asked)
	if t == nil {
		return nil
	}
	words, err := task.SplitWords(p.arguments.String())
	if err != nil {
		p.say(true, "%v", err)
		return nil
	}
	if secret.Missing(words) {
		p.say(true, "what stands as %s was not kept: type it", secret.Hidden)
		return nil
	}
	p.asking = false
	return p.start(p.atPlace(t), words)
}

// nextPlace returns the place behind the one that is chosen for a run; "" for here.
func (p *tasksPage) nextPlace() string {
	places := append([]string{""}, slices.Sorted(maps.Keys(p.snap.Survey.Tally.Places))...)
	return places[(slices.Index(places, p.where)+1)%len(places)]
}

// atPlace returns the task as it runs at the place that is chosen for one run.
func (p *tasksPage) atPlace(t *task.Task) *task.Task {
	if t.At == p.where {
		return t
	}
	there := *t
	there.At = p.where
	return &there
}

// copyCommand copies the line that does the same in a shell at the root.
func (p *tasksPage) copyCommand() tea.Cmd {
	t := p.current()
	if t == nil {
		return nil
	}
	ctx := p.session.Context()
	prepared, err := ctx.Prepare(t, p.givenTo(t).last)
	if err != nil {
		p.say(true, "%v", err)
		return nil
	}
	text := prepared.Display
	if rel, err := filepath.Rel(p.root, prepared.Dir); err == nil && rel != "." {
		text = "(cd " + task.Quote(rel) + " && " + text + ")"
	}
	p.say(false, "copied: %s", text)
	return tea.SetClipboard(text)
}

// openDeclaration opens the editor where the chosen task is declared.
func (p *tasksPage) openDeclaration() tea.Cmd {
	t := p.current()
	if t == nil {
		return nil
	}
	o := t.Origin("name")
	return p.openEditor(o.File, o.Line, o.Column)
}

// chooseFile asks which file is the current one.
func (p *tasksPage) chooseFile() tea.Cmd {
	names, ok := p.session.Names()
	if !ok {
		p.say(false, "the workspace is being read")
		return nil
	}
	var all, others []answer
	saved := p.snap.Saved
	if p.snap.Chosen != "" {
		all = append(all, answer{"the file saved last", "as each is saved; " + p.currentRel() + " is let go", func() tea.Cmd {
			p.keepCurrent("")
			return nil
		}})
	}
	if rel := p.relative(saved); rel != "" && p.snap.Chosen != saved {
		all = append(all, answer{rel, "saved last", func() tea.Cmd { return p.keepThere(saved) }})
	}
	for _, name := range names {
		a := answer{name, "", func() tea.Cmd { return p.keepThere(p.absolute(name)) }}
		if toolchain.IsSource(name) {
			all = append(all, a)
		} else {
			others = append(others, a)
		}
	}
	return p.askAmong("Which file is the current one?", append(all, others...))
}

// keepThere keeps a file as the current one, and goes to what is offered for it.
func (p *tasksPage) keepThere(file string) tea.Cmd {
	p.keepCurrent(file)
	p.find.set("")
	p.arrange()
	for i, at := range p.tasks {
		if p.rows[at].opens != "" && p.rows[at].fold == "" || p.rows[at].task != nil && isFor(p.rows[at].task, p.currentRel()) {
			p.chosen, p.moved = i, true
			break
		}
	}
	p.clamp()
	return nil
}

// debugChosen starts a debugger on the program of the chosen task.
func (p *tasksPage) debugChosen() tea.Cmd {
	t := p.current()
	if t == nil {
		return nil
	}
	return p.startDebugger(t, run.Place{})
}

// maxLikely is the number of tasks that are offered: each has a digit for its key.
const maxLikely = 9

// chooseUsual offers the chosen task first, then those that are likely.
func (p *tasksPage) chooseUsual() tea.Cmd {
	if p.snap.Survey == nil {
		return nil
	}
	candidates := p.likely()
	if t := p.current(); t != nil && p.usual() != nil {
		candidates = slices.DeleteFunc(candidates, func(c *task.Task) bool { return c == t })
		candidates = slices.Insert(candidates, 0, t)
		candidates = candidates[:min(len(candidates), maxLikely)]
	}
	if len(candidates) == 0 {
		p.say(true, "there is no task to choose")
		return nil
	}
	var answers []answer
	for _, t := range candidates {
		about := t.Runs()
		if t == p.usual() {
			about = "the usual one now   " + about
		}
		answers = append(answers, answer{t.ShownID(), about, func() tea.Cmd { return p.whereUsual(t) }})
	}
	return p.ask("Which task is the usual one, that u runs?", answers...)
}

// likely are the tasks that may be meant as the usual one, the likeliest first.
func (p *tasksPage) likely() []*task.Task {
	rank := func(t *task.Task) int {
		n := 0
		switch t.Kind {
		case task.Build:
			n = 4
		case task.Serve:
			n = 3
		case task.Run:
			n = 2
		case task.Test:
			n = 1
		}
		if t.Default || t.Name == "all" || t.Name == "build" || t.Name == "dev" || t.Name == "start" {
			n += 4
		}
		if t.Manner == task.Declared {
			n += 2
		}
		return n - 2*strings.Count(t.File, "/")
	}
	var all []*task.Task
	for _, t := range p.snap.Survey.Tasks {
		if !t.Aside() {
			all = append(all, t)
		}
	}
	slices.SortStableFunc(all, func(a, b *task.Task) int { return cmp.Compare(rank(b), rank(a)) })
	return all[:min(len(all), maxLikely)]
}

// whereUsual asks where the choice is to be kept, and keeps it there.
func (p *tasksPage) whereUsual(t *task.Task) tea.Cmd {
	id, shown := t.ID(), t.ShownID()
	return p.ask("Where is it to be kept that "+shown+" is the usual task?",
		answer{"in " + workspace.TallyFile, "for everybody who works here", func() tea.Cmd {
			p.kept.Usual = ""
			p.save()
			return p.editTally("the usual task is "+shown, func(data []byte) ([]byte, error) {
				return tallyfile.Put(data, "usual", id)
			})
		}},
		answer{"for me alone", "outside of the workspace", func() tea.Cmd {
			p.kept.Usual = id
			p.save()
			p.say(false, "the usual task is %s; u runs it", shown)
			return nil
		}})
}

// versionsMsg brings what compilers said of their versions.
type versionsMsg struct {
	file  string
	tasks []*task.Task
}

// openCompilers finds the compilers for the current file and asks each for its
// version: the only programs that are executed without being run as a task.
func (p *tasksPage) openCompilers() tea.Cmd {
	file, root := p.currentRel(), p.root
	p.say(false, "asking the compilers on the path for their versions")
	return func() tea.Msg {
		tasks := toolchain.Tasks(file, os.Getenv("PATH"))
		for _, t := range tasks {
			t.About = toolchain.Version(t)
		}
		if t := toolchain.AsProject(root, file); t != nil { // a file of the workspace names its compiler: it is not asked
			tasks = append([]*task.Task{t}, tasks...)
		}
		return versionsMsg{file, tasks}
	}
}

// openedCompilers shows the compilers, if the file is still the current one.
func (p *tasksPage) openedCompilers(msg versionsMsg) {
	if msg.file != p.currentRel() {
		return
	}
	p.compilers, p.opened = msg.tasks, true
	p.say(false, "%s for %s", plural(len(msg.tasks), "way"), msg.file)
	p.arrange()
	for i, r := range p.tasks {
		if len(msg.tasks) > 0 && p.rows[r].task == msg.tasks[0] {
			p.chosen = i
		}
	}
	p.clamp()
}

func (p *tasksPage) rowName() string {
	if t := p.current(); t != nil {
		return shortID(t)
	}
	return ""
}

// some reports whether a task is chosen.
func (p *tasksPage) some() bool { return p.current() != nil }

// ranBefore reports whether the chosen task has run.
func (p *tasksPage) ranBefore() bool {
	if !p.some() {
		return false
	}
	_, ran := p.lastArguments(p.current())
	return ran
}

// lastArguments returns the arguments of a task's last run, and whether it has run.
func (p *tasksPage) lastArguments(t *task.Task) (args []string, ran bool) {
	if r := p.last(t); r != nil {
		return r.Args, true
	}
	if before := p.lastOf(t); before != nil {
		return before.Args, true
	}
	return nil, false
}

// debugs reports whether there is a debugger for the chosen task.
func (p *tasksPage) debugs() bool {
	t := p.current()
	if t == nil {
		return false
	}
	_, err := run.DebugTask(t, run.Place{})
	return err == nil
}

// watches reports whether the chosen task can be watched.
func (p *tasksPage) watches() bool { return p.some() && run.Watches(p.current()) }
