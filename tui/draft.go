package tui

import (
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/draft"
	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/toolchain"
	"tidytally/core/workspace"
	"tidytally/tui/ink"
)

const draftName = "draft"

// draftPage shows a task that is being written: its values, the lines that will stand in the tally
// file, and the command that will run.
type draftPage struct {
	*desk
	plainPage
	draft  *draft.Draft
	files  []string // tally files that it can be written into; the first one is offered
	file   int      // which of these
	chosen int      // index into rows
	top    int
	edit   field
	typing bool
	asks   []draft.Ask // that are still to be answered, of offer
	offer  *draft.Offer
	given  map[string]string
	wanted string // the id of the task that was written: it is chosen when the survey has it
}

func newDraftPage(d *desk) *draftPage { return &draftPage{desk: d} }

func (p *draftPage) name() string { return draftName }

// goes has no key: a task or a starting point is chosen first.
func (p *draftPage) goes() key { return key{} }

func (p *draftPage) keys() []key {
	on := []string{tasksName}
	own := []key{
		{names: []string{"enter", "e"}, goal: toWrite, label: "change", help: "change the value", ofRow: true, act: p.change},
		{names: []string{"w"}, goal: toWrite, label: "write it", help: "write it into the tally file", act: p.write},
		{names: []string{"backspace", "delete"}, goal: toWrite, label: "take away", help: "take the value away", ofRow: true, act: p.takeAway},
		{names: []string{"f"}, goal: toWrite, label: "which file", help: "write it into another tally file", act: p.nextFile, when: func() bool { return len(p.files) > 1 }},
	}
	if p.draft == nil { // it was written, or given up
		own = nil
	}
	return append(own, []key{
		{names: []string{"n"}, goal: toWrite, label: "new", help: "a new task from a starting point", act: p.begin, on: on},
		{names: []string{"C"}, goal: toWrite, help: "copy the task into a tally file, and change the copy", ofRow: true, when: p.someTask, act: p.copy, on: on},
		{names: []string{"E"}, goal: toWrite, help: "change values of the task; a tally file keeps what differs", ofRow: true, when: p.someTask, act: p.changeTask, on: on},
		{names: []string{"V"}, goal: toWrite, help: "run the task, its kind or its folder through a launcher, or the task at a place", ofRow: true, when: p.someTask, act: p.launcher, on: on},
	}...)
}

// begin offers the starting points, filled with what is here.
func (p *draftPage) begin() tea.Cmd {
	if p.snap.Survey == nil {
		return nil
	}
	points, err := draft.Points(filepath.Join(filepath.Dir(survey.PersonalFile()), draft.UserPoints))
	if err != nil {
		p.say(true, "%v", err) // the others are offered
	}
	folder := "."
	if p.task != nil {
		folder = p.task.Folder()
	}
	if folder == task.Personal {
		folder = "."
	}
	var answers []answer
	for _, o := range draft.Offers(points, p.currentRel(), folder, os.Getenv("PATH")) {
		answers = append(answers, answer{o.Name, o.About, func() tea.Cmd {
			p.offer, p.asks, p.given = &o, slices.Clone(o.Asks), map[string]string{}
			p.draft = nil
			return tea.Batch(p.goTo(draftName), p.askNext())
		}})
	}
	return p.askAmong("What does the new task begin from?", answers)
}

// askNext asks for the next value that the starting point needs, or fills it in.
func (p *draftPage) askNext() tea.Cmd {
	if len(p.asks) == 0 {
		d, err := p.offer.Draft(p.given)
		if err != nil {
			p.say(true, "%v", err)
			return p.goTo(tasksName)
		}
		p.open(d, workspace.TallyFile)
		return nil
	}
	a := p.asks[0]
	p.edit = newField(a.Default,
		key{names: []string{"enter"}, label: "take it", act: func() tea.Cmd {
			if p.given[a.Name] = p.edit.String(); p.given[a.Name] == "" {
				p.say(true, "%s: %s", a.Name, a.About)
				return nil
			}
			p.typing, p.asks = false, p.asks[1:]
			return p.askNext()
		}},
		key{names: []string{"esc", "ctrl+c"}, label: "cancel", act: func() tea.Cmd {
			p.typing, p.asks = false, nil
			return p.goTo(tasksName)
		}})
	p.typing = true
	return nil
}

// open shows a draft. file is the tally file that it is for.
func (p *draftPage) open(d *draft.Draft, file string) {
	p.draft, p.chosen, p.top, p.file, p.asks = d, 0, 0, 0, nil
	p.files = []string{file}
	if d.New() {
		for _, r := range p.snap.Survey.Read {
			if r.Source == "tally" && !slices.Contains(p.files, r.Path) {
				p.files = append(p.files, r.Path)
			}
		}
		if own := survey.PersonalFile(); own != "" && !slices.Contains(p.files, own) {
			p.files = append(p.files, own)
		}
		p.rename(d.Name())
	}
}

// rename gives a new task a name that no other task of its file has.
func (p *draftPage) rename(name string) {
	if p.draft.Table[0] == "task" {
		name = draft.FreeName(name, p.files[p.file], p.snap.Survey.Tasks)
	}
	p.draft.Table = tallyfile.Table{p.draft.Table[0], name}
}

// copy drafts a copy of the chosen task.
func (p *draftPage) copy() tea.Cmd {
	if p.task == nil {
		return nil
	}
	p.open(draft.Copy(p.task, "."), workspace.TallyFile)
	return p.goTo(draftName)
}

// changeTask drafts a change of the chosen task.
func (p *draftPage) changeTask() tea.Cmd {
	t := p.task
	switch {
	case t == nil:
		return nil
	case t.Source == toolchain.Source:
		p.say(false, "no file declares it: C copies it into a tally file")
		return nil
	}
	file := workspace.TallyFile
	if t.Source == "tally" {
		file = t.File
	}
	p.open(draft.Change(t), file)
	return p.goTo(draftName)
}

func (p *draftPage) update(msg tea.Msg) tea.Cmd {
	if _, ok := msg.(surveyedMsg); ok && p.wanted != "" && !p.snap.Survey.Partial {
		id := p.wanted
		for _, t := range p.snap.Survey.Tasks {
			if t.ID() == id {
				p.wanted = ""
				return p.tell(wantTaskMsg{id})
			}
		}
	}
	return nil
}

func (p *draftPage) nextFile() tea.Cmd {
	if len(p.files) > 1 {
		before := path.Dir(p.files[p.file])
		p.file = (p.file + 1) % len(p.files)
		p.rebase(before, path.Dir(p.files[p.file]))
		p.rename(p.draft.Name())
	}
	return nil
}

// rebase writes the folder of the task anew for a tally file in another folder.
func (p *draftPage) rebase(before, now string) {
	if path.IsAbs(before) {
		before = "."
	}
	if path.IsAbs(now) {
		now = "."
	}
	in := p.draft.Values["in"]
	if path.IsAbs(in) || strings.HasPrefix(in, "{") {
		return
	}
	dir := path.Join(before, in)
	rel, err := filepath.Rel(filepath.FromSlash(now), filepath.FromSlash(dir))
	if err == nil && rel != "." {
		p.draft.Values["in"] = filepath.ToSlash(rel)
	} else {
		delete(p.draft.Values, "in")
	}
}

// draftRow is a value of the draft, or one that it may have.
type draftRow struct {
	key   tallyfile.Key
	typed string
	set   bool
}

// nameKey stands for the name of the task among the keys.
const nameKey = "name"

func (p *draftPage) rows() (rows []draftRow) {
	if p.draft == nil || p.draft.More != "" {
		return nil
	}
	if p.draft.New() {
		rows = append(rows, draftRow{tallyfile.Key{Name: nameKey, About: "the name of the task"}, p.draft.Name(), true})
	}
	var more []draftRow
	for _, k := range tallyfile.TaskKeys() {
		if typed, set := p.draft.Values[k.Name]; set {
			rows = append(rows, draftRow{k, typed, true})
		} else {
			more = append(more, draftRow{k, "", false})
		}
	}
	return append(rows, more...)
}

func (p *draftPage) current() *draftRow {
	rows := p.rows()
	if p.chosen < len(rows) {
		return &rows[p.chosen]
	}
	return nil
}

// change begins to change the chosen value.
func (p *draftPage) change() tea.Cmd {
	row := p.current()
	if row == nil {
		return nil
	}
	p.edit = newField(row.typed,
		key{names: []string{"enter"}, label: "take it", act: func() tea.Cmd { return p.set(row.key.Name) }},
		key{names: []string{"esc", "ctrl+c"}, label: "cancel", act: func() tea.Cmd {
			p.typing = false
			return nil
		}})
	p.edit.suggest = func(word string) []string { return p.valuesOf(row.key) }
	p.typing = true
	return nil
}

// valuesOf suggests values of a key.
func (p *draftPage) valuesOf(k tallyfile.Key) (values []string) {
	switch k.Name {
	case "via":
		for name := range p.snap.Survey.Tally.Vias {
			values = append(values, name)
		}
	case "before", "with", "after":
		for _, t := range p.snap.Survey.Tasks {
			if !t.Aside() {
				values = append(values, task.Quote(t.ID()))
			}
		}
	case "in":
		values = slices.Clone(p.snap.Survey.Folders)
	default:
		values = slices.Clone(k.Choices)
	}
	slices.Sort(values)
	return values
}

// set takes what was typed for a key.
func (p *draftPage) set(name string) tea.Cmd {
	typed := p.edit.String()
	if name == nameKey {
		if typed == "" {
			p.say(true, "a task needs a name")
			return nil
		}
		p.typing = false
		p.rename(typed)
		return nil
	}
	if err := p.draft.Set(name, typed); err != nil {
		p.say(true, "%v", err)
		return nil
	}
	p.typing = false
	p.choose(name)
	return nil
}

// choose chooses the row of a key, which may have moved.
func (p *draftPage) choose(name string) {
	if i := slices.IndexFunc(p.rows(), func(r draftRow) bool { return r.key.Name == name }); i >= 0 {
		p.chosen = i
	}
}

func (p *draftPage) takeAway() tea.Cmd {
	if row := p.current(); row != nil && row.set && row.key.Name != nameKey {
		_ = p.draft.Set(row.key.Name, "") // nothing is always good
		p.choose(row.key.Name)
	}
	return nil
}

// write writes the draft into its tally file.
func (p *draftPage) write() tea.Cmd {
	if p.draft == nil {
		return nil
	}
	d, file := p.draft, p.files[p.file]
	if d.Lines() == "" {
		p.say(false, "nothing differs: there is nothing to write")
		return nil
	}
	t, err := d.Task(file)
	if err != nil {
		p.say(true, "%v", err)
		return nil
	}
	cmd, ok := p.writeTally(file, d.Table.String(), d.Write)
	if !ok {
		return nil
	}
	switch {
	case d.Table[0] == "adjust":
		p.wanted = d.Name()
	case t != nil:
		p.wanted = task.MakeID(file, t.Name)
	}
	p.draft = nil
	return tea.Batch(p.goTo(tasksName), cmd)
}

// launcher asks through which launcher what is to run.
func (p *draftPage) launcher() tea.Cmd {
	t := p.task
	if t == nil {
		return nil
	}
	if len(p.snap.Survey.Tally.Vias)+len(p.snap.Survey.Tally.Places) == 0 {
		p.say(false, "there is no launcher yet: n offers a container and a remote host, or write [via.NAME] or [place.NAME] into a tally file")
		return nil
	}
	var answers []answer
	names := make([]string, 0, len(p.snap.Survey.Tally.Vias))
	for name := range p.snap.Survey.Tally.Vias {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		v := p.snap.Survey.Tally.Vias[name]
		about := v.Command.String()
		if name == t.Via {
			about = "so it runs now   " + about
		}
		answers = append(answers, answer{name, about, func() tea.Cmd { return p.throughFor(t, &v) }})
	}
	for _, name := range slices.Sorted(maps.Keys(p.snap.Survey.Tally.Places)) {
		place := p.snap.Survey.Tally.Places[name]
		about := place.Command.String()
		if name == t.At {
			about = "so it runs now   " + about
		}
		answers = append(answers, answer{"at " + name, about, func() tea.Cmd { return p.settleAt(t, name) }})
	}
	return p.ask("Through which launcher, or where?", answers...)
}

// settleAt asks whether a task runs at a place once or always.
func (p *draftPage) settleAt(t *task.Task, name string) tea.Cmd {
	return p.ask("Is "+t.Name+" to run at "+name+"?",
		answer{"this time", "now, with all that comes before it", func() tea.Cmd {
			there := *t
			there.At = name
			return p.startMade(&there)
		}},
		answer{"always", "at is written into the tally file", func() tea.Cmd {
			d := draft.Change(t)
			if err := d.Set("at", name); err != nil {
				p.say(true, "%v", err)
				return nil
			}
			file := workspace.TallyFile
			if d.There {
				file = t.File
			}
			return p.editFile(file, t.Name+" runs at "+name, d.Write)
		}})
}

// throughFor asks what is to run through a launcher, and writes it.
func (p *draftPage) throughFor(t *task.Task, v *tallyfile.Via) tea.Cmd {
	table := tallyfile.Table{"via", v.Name}
	folder := t.Dir
	base := path.Dir(v.Origin.File)
	if path.IsAbs(base) {
		base = "."
	}
	rel, err := filepath.Rel(filepath.FromSlash(base), filepath.FromSlash(folder))
	if err != nil || path.IsAbs(folder) {
		rel = folder
	}
	answers := []answer{
		{"this task", t.ShownID(), func() tea.Cmd {
			d := draft.Change(t)
			if err := d.Set("via", v.Name); err != nil {
				p.say(true, "%v", err)
				return nil
			}
			file := workspace.TallyFile
			if d.There {
				file = t.File
			}
			return p.editFile(file, t.Name+" runs through "+v.Name, d.Write)
		}},
		{"tasks of its kind", string(t.Kind) + ", in the whole workspace", func() tea.Cmd {
			return p.editFile(v.Origin.File, "tasks of kind "+string(t.Kind)+" run through "+v.Name, func(data []byte) ([]byte, error) {
				return tallyfile.AppendTo(data, table, "kinds", string(t.Kind))
			})
		}},
		{"tasks of its folder", folder + ", and below", func() tea.Cmd {
			return p.editFile(v.Origin.File, "tasks of "+folder+" run through "+v.Name, func(data []byte) ([]byte, error) {
				return tallyfile.AppendTo(data, table, "folders", filepath.ToSlash(rel))
			})
		}},
	}
	return p.ask("What is to run through "+v.Name+"? It is written into "+v.Origin.File+" or the task's tally file.", answers...)
}

func (p *draftPage) move(rows int)   { p.chosen += rows }
func (p *draftPage) scroll(rows int) { p.chosen += rows }

func (p *draftPage) clamp() {
	n := len(p.rows())
	p.chosen = max(0, min(p.chosen, n-1))
	p.top = scrollTo(p.top, p.listHeight(), n, p.chosen)
}

func (p *draftPage) click(row int) bool {
	at := p.top + row - draftHead
	if row < draftHead || at >= len(p.rows()) || row >= draftHead+p.listHeight() {
		return false
	}
	p.chosen = at
	return true
}

func (p *draftPage) edges() (above, below int) { return p.top, 0 }

func (p *draftPage) field() *field {
	if p.typing {
		return &p.edit
	}
	return nil
}

func (p *draftPage) subject() *run.Run { return nil }

func (p *draftPage) heading(r *ink.Row) {
	r.Put("  "+draftName, ink.Plain)
	if p.draft == nil {
		return
	}
	what := " of "
	if p.draft.New() {
		what = " of a new table "
	}
	name := p.draft.Table.String()
	if p.draft.Table[0] == "adjust" {
		file, short := task.SplitID(p.draft.Name())
		name = file + "#" + short
	}
	r.Put(what, ink.Plain).Put(name, ink.Bold)
}

// someTask reports whether a task is chosen.
func (p *draftPage) someTask() bool { return p.desk.task != nil }
