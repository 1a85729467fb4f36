package tui

import (
	"cmp"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/plan"
	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/toolchain"
	"tidytally/core/workspace"
)

// save keeps what the user pinned and ran.
func (m *Model) save() {
	if err := m.kept.Save(); err != nil {
		m.say(true, "not kept: %v", err)
	}
}

// pinned tells whether a task stays on top: by a tally file, or by the user.
func (m *Model) pinned(t *task.Task) bool {
	return t.Pin || len(m.kept.Pins) > 0 && m.kept.Pinned(t.ID()) // an id of each task is not made for nothing
}

func (m *Model) pinChosen() tea.Cmd {
	t := m.tasks.current()
	if t == nil {
		return nil
	}
	switch {
	case m.kept.Pin(t.ID()):
		m.say(false, "%s is pinned; p lets it go", t.Name)
	case t.Pin:
		m.say(false, "%s is pinned by %s", t.Name, t.Origin("pin"))
	default:
		m.say(false, "%s is no longer pinned", t.Name)
	}
	m.save()
	m.arrange()
	return nil
}

// usual is the usual task: the user's own choice before the workspace's.
func (m *Model) usual() *task.Task {
	if m.survey == nil {
		return nil
	}
	if m.kept.Usual != "" {
		if t, err := task.Find(m.survey.Tasks, m.kept.Usual); err == nil {
			return t
		}
	}
	return m.survey.Usual()
}

// chooseUsual offers the chosen task first, then those that are likely.
func (m *Model) chooseUsual() tea.Cmd {
	if m.survey == nil {
		return nil
	}
	candidates := m.likely()
	if t := m.tasks.current(); t != nil && m.page == tasksPage && m.usual() != nil {
		candidates = slices.DeleteFunc(candidates, func(c *task.Task) bool { return c == t })
		candidates = slices.Insert(candidates, 0, t)
		candidates = candidates[:min(len(candidates), maxLikely)]
	}
	if len(candidates) == 0 {
		m.say(true, "there is no task to choose")
		return nil
	}
	var answers []answer
	for _, t := range candidates {
		answers = append(answers, answer{t.ID(), what(t), func(m *Model) tea.Cmd { return m.whereUsual(t) }})
	}
	return m.ask("Which task is the usual one, that u runs?", answers...)
}

// maxLikely is how many tasks are offered: each has a digit for its key.
const maxLikely = 9

// likely are the tasks that may be meant as the usual one, the likeliest first.
func (m *Model) likely() []*task.Task {
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
	for _, t := range m.survey.Tasks {
		if !t.Hidden {
			all = append(all, t)
		}
	}
	slices.SortStableFunc(all, func(a, b *task.Task) int { return cmp.Compare(rank(b), rank(a)) })
	return all[:min(len(all), maxLikely)]
}

// whereUsual asks where the choice is to be kept, and keeps it there.
func (m *Model) whereUsual(t *task.Task) tea.Cmd {
	id := t.ID()
	return m.ask("Where is it to be kept that "+clean(id)+" is the usual task?",
		answer{"in " + workspace.TallyFile, "for everybody who works here", func(m *Model) tea.Cmd {
			m.kept.Usual = ""
			m.save()
			return m.editTally("the usual task is "+id, func(data []byte) ([]byte, error) {
				return tallyfile.Put(data, "workspace", "usual", id)
			})
		}},
		answer{"for me alone", "outside of the workspace", func(m *Model) tea.Cmd {
			m.kept.Usual = id
			m.save()
			m.say(false, "the usual task is %s; u runs it", id)
			return nil
		}})
}

// editTally changes the root's tally file in place, and surveys anew.
func (m *Model) editTally(done string, change func([]byte) ([]byte, error)) tea.Cmd {
	if err := tallyfile.EditFile(filepath.Join(m.root, workspace.TallyFile), change); err != nil {
		m.say(true, "%v", err)
		return nil
	}
	m.say(false, "written into %s: %s", workspace.TallyFile, done)
	m.touched.add([]string{workspace.TallyFile})
	return m.surveyCmd()
}

// inHand is the file in hand, relative to the workspace: the one that is pinned
// or was handed over, else the source file saved last; "" for none.
func (m *Model) inHand() string {
	file := m.handFile()
	if file == "" {
		return ""
	}
	rel, err := filepath.Rel(m.root, file)
	if err != nil || strings.HasPrefix(rel, "..") {
		return ""
	}
	return filepath.ToSlash(rel)
}

// handFile is the file in hand as an absolute path, or "".
func (m *Model) handFile() string {
	if m.file != "" {
		return m.file
	}
	return m.saved
}

// noteSaved takes the source file saved last from what changed.
func (m *Model) noteSaved(paths []string) {
	newest := ""
	var at int64
	for _, p := range paths {
		if !toolchain.IsSource(p) || filepath.IsAbs(p) {
			continue
		}
		full := filepath.Join(m.root, filepath.FromSlash(p))
		if info, err := os.Stat(full); err == nil && info.Mode().IsRegular() && info.ModTime().UnixNano() > at {
			newest, at = full, info.ModTime().UnixNano()
		}
	}
	if newest != "" {
		m.tally.excerpts, m.tally.openedOf = nil, "" // its lines may stand elsewhere
	}
	if newest != "" && newest != m.saved {
		m.saved = newest
		if m.file == "" {
			m.handChanged()
		}
	}
}

// handChanged follows another file in hand.
func (m *Model) handChanged() {
	m.tasks.compilers, m.tasks.opened = nil, false
	ctx := m.super.Context()
	ctx.File = m.handFile()
	m.super.SetContext(ctx)
	m.arrange()
}

// holdFile pins the file in hand, or lets it go: on the tally, the file of the
// chosen problem.
func (m *Model) holdFile() tea.Cmd {
	target := m.saved
	if row := m.tally.current(); m.page == tallyPage && row != nil && row.p.File != "" {
		target = row.p.File
		if !filepath.IsAbs(target) {
			target = filepath.Join(m.root, filepath.FromSlash(target))
		}
	} else if m.file != "" {
		m.file = ""
		m.handChanged()
		m.say(false, "the file in hand is the one saved last")
		return nil
	}
	if target == "" {
		m.say(false, "no file is in hand: save one, or choose a problem on the tally and press f")
		return nil
	}
	m.file = target
	m.handChanged()
	m.say(false, "in hand is %s until f lets it go", m.inHand())
	return nil
}

// versionsMsg brings what compilers said of their versions.
type versionsMsg struct {
	file  string
	tasks []*task.Task
}

// openCompilers finds the compilers for the file in hand and asks each for its
// version: the only thing that is executed without being run.
func (m *Model) openCompilers() tea.Cmd {
	file := m.inHand()
	m.say(false, "asking the compilers on the path for their versions")
	return func() tea.Msg {
		tasks := toolchain.Tasks(file, os.Getenv("PATH"))
		for _, t := range tasks {
			t.About = toolchain.Version(t)
		}
		return versionsMsg{file, tasks}
	}
}

// matters tells by its name whether a changed file counts here.
func matters(name string) bool { return survey.Wants(name) || toolchain.IsSource(name) }

// staleMsg brings which tasks are stale: the files that changed, by task id.
type staleMsg map[string][]string

// staleCmd looks which tasks are stale, beside the page.
func (m *Model) staleCmd() tea.Cmd {
	if m.survey == nil {
		return nil
	}
	type look struct {
		task  *task.Task
		since time.Time
	}
	var looks []look
	for _, t := range m.survey.Tasks {
		if len(t.Reads) == 0 {
			continue
		}
		if since, ok := m.kept.Good[t.ID()]; ok {
			looks = append(looks, look{t, since})
		}
	}
	if len(looks) == 0 && len(m.stale) == 0 {
		return nil
	}
	root := m.root
	return func() tea.Msg {
		stale := staleMsg{}
		for _, l := range looks {
			if changed := plan.Stale(root, l.task, l.since); len(changed) > 0 {
				stale[l.task.ID()] = changed
			}
		}
		return stale
	}
}

// noteGood keeps when good runs began, of tasks that say what they read; it tells
// whether there were any that it did not know.
func (m *Model) noteGood() (news bool) {
	for id, rec := range m.records {
		if len(rec.runs) == 0 {
			continue
		}
		r := rec.runs[len(rec.runs)-1]
		if len(r.Prepared.Task.Reads) == 0 {
			continue
		}
		if s := r.Snapshot(); s.State == run.OK && m.kept.Good[id].Before(s.Started) {
			m.kept.WentWell(id, s.Started)
			news = true
		}
	}
	if news {
		m.save()
	}
	return news
}
