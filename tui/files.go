package tui

import (
	tea "charm.land/bubbletea/v2"

	"tidytally/core/learn"
	"tidytally/core/plan"
	"tidytally/core/run"
	"tidytally/core/task"
)

const filesName = "files"

// filesPage shows what the last good run of the chosen task read and made, what of it has changed, and
// one file that it made beside its source.
type filesPage struct {
	*desk
	plainPage
	of      *task.Task
	known   *learn.Known // nil if nothing is known
	look    plan.Outlook
	all     []learn.File
	files   []learn.File // those in view
	changed bool         // only those that have changed are
	chosen  int
	top     int

	beside  bool // the chosen file is shown beside its source
	texts   *sourceFiles
	line    int // the first line in view
	pending bool
}

func newFilesPage(d *desk) *filesPage { return &filesPage{desk: d, texts: &sourceFiles{desk: d}} }

func (p *filesPage) name() string { return filesName }

func (p *filesPage) goes() key {
	return key{names: []string{"M"}, help: "the files that the task read and made in its last good run, and back", ofRow: true}
}

func (p *filesPage) keys() []key {
	return []key{
		{names: []string{"enter"}, label: "beside its source", help: "show the file that was made beside the file that it was made of, and back; both follow each new run", ofRow: true, act: p.toggleBeside},
		{names: []string{"c"}, goal: toFind, label: "changed ones", help: "only the files that have changed since, or all", act: p.toggleChanged},
		{names: []string{"e"}, help: "open the editor on the file", ofRow: true, act: p.edit},
	}
}

// filesMsg brings the files of a task as they are now.
type filesMsg struct {
	of    *task.Task
	known *learn.Known
	look  plan.Outlook
	files []learn.File
}

func (p *filesPage) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case pageMsg:
		if msg.name == filesName {
			p.beside, p.changed, p.chosen, p.top = false, false, 0, 0
			return p.fill()
		}
	case outlooksMsg, surveyedMsg, sourcesChangedMsg:
		if p.front() == filesName {
			return p.fill()
		}
	case filesMsg:
		p.pending = false
		if msg.of != p.task {
			return p.fill()
		}
		p.of, p.known, p.look, p.all = msg.of, msg.known, msg.look, msg.files
		p.texts.forget()
		p.arrange()
	}
	return nil
}

// fill looks at the files, beside the loop: there may be many.
func (p *filesPage) fill() tea.Cmd {
	t := p.task
	if t == nil || p.pending {
		return nil
	}
	records, root, ctx := p.session.Learned(t.ID()), p.root, p.session.Context()
	p.pending = true
	return func() tea.Msg {
		msg := filesMsg{of: t, look: plan.OutlookOf(t, records, root, ctx.SettingOf(t))}
		if msg.known = records[learn.Watched]; msg.known == nil {
			msg.known = records[learn.Declared]
		}
		if msg.known != nil {
			msg.files = msg.known.FilesNow(root)
		}
		return msg
	}
}

// arrange takes the files that are in view, and keeps the chosen one.
func (p *filesPage) arrange() {
	was := p.current()
	p.files = nil
	for _, f := range p.all {
		if !p.changed || f.State != "" || f.Older {
			p.files = append(p.files, f)
		}
	}
	if was == nil {
		return
	}
	for i := range p.files {
		if p.files[i].Path == was.Path && p.files[i].Role == was.Role {
			p.chosen = i
		}
	}
}

// current returns the chosen file, or nil.
func (p *filesPage) current() *learn.File {
	if p.chosen < len(p.files) {
		f := p.files[p.chosen]
		return &f
	}
	return nil
}

func (p *filesPage) toggleBeside() tea.Cmd {
	if p.current() == nil {
		return nil
	}
	p.beside, p.line = !p.beside, 0
	p.texts.forget()
	return nil
}

func (p *filesPage) toggleChanged() tea.Cmd {
	p.changed = !p.changed
	p.arrange()
	return nil
}

func (p *filesPage) edit() tea.Cmd {
	f := p.current()
	switch {
	case f == nil:
		return nil
	case !f.There:
		p.say(false, "%s is not there", f.Path)
		return nil
	}
	return p.openEditor(f.Path, 1, 1)
}

func (p *filesPage) move(rows int) {
	if p.beside {
		p.line += rows
		return
	}
	p.chosen += rows
}

func (p *filesPage) scroll(rows int) { p.move(rows) }

func (p *filesPage) clamp() {
	p.chosen = max(0, min(p.chosen, len(p.files)-1))
	p.top = scrollTo(p.top, p.listHeight(), len(p.files), p.chosen)
	if p.front() == filesName && p.beside {
		p.line = max(0, min(p.line, p.longest()-p.bodyHeight()+besideHead))
	}
}

func (p *filesPage) click(row int) bool {
	at := p.top + row - filesHead
	if p.beside || row < filesHead || at >= len(p.files) {
		return false
	}
	p.chosen = at
	return true
}

func (p *filesPage) edges() (above, below int) { return edgesOf(p.top, p.listHeight(), len(p.files)) }

func (p *filesPage) subject() *run.Run { return p.lastOfChosen() }

// clear leaves the two files.
func (p *filesPage) clear() bool {
	was := p.beside || p.changed
	p.beside = false
	if p.changed {
		p.changed = false
		p.arrange()
	}
	return was
}
