package tui

import (
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/learn"
	"tidytally/core/plan"
	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/task"
	"tidytally/core/toolchain"
	"tidytally/core/workspace"
)

// How the desk follows the workspace: files change, surveys follow them, tasks
// become stale.

// Messages from what goes on beside the loop.
type (
	surveyDoneMsg struct {
		survey *survey.Survey // nil if nothing has changed
		err    error
	}
	surveyPartMsg   struct{ survey *survey.Survey }
	filesChangedMsg struct{}
	runsChangedMsg  struct{}
	listenMsg       struct{}
	tickMsg         time.Time
	editedMsg       struct{ err error }
)

// touchedFiles gathers what changed in the workspace since the last survey.
type touchedFiles struct {
	mu    sync.Mutex // guards the fields below
	paths map[string]bool
	all   bool
	stamp bool // the files' time stamps say more
	runs  bool // runs have ended, which may have made files in ignored folders
}

// add takes paths that changed; none says that anything may have.
func (t *touchedFiles) add(paths []string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.paths == nil {
		t.paths = map[string]bool{}
	}
	t.all = t.all || len(paths) == 0
	for _, p := range paths {
		t.paths[p] = true
	}
}

// recheck says that what changed must be found by time stamps.
func (t *touchedFiles) recheck() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.stamp = true
}

// byRuns says that runs have ended.
func (t *touchedFiles) byRuns() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.runs = true
}

// take returns what was gathered, and forgets it.
func (t *touchedFiles) take() (paths []string, all, stamp, runs bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	paths, all, stamp, runs = slices.Collect(maps.Keys(t.paths)), t.all, t.stamp, t.runs
	t.paths, t.all, t.stamp, t.runs = nil, false, false, false
	return paths, all, stamp, runs
}

// nudge wakes whoever waits on a channel, once for any number of nudges.
func nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// surveyCmd surveys what changed, one survey at a time.
func (d *desk) surveyCmd() tea.Cmd {
	if d.busy {
		d.again = true
		return nil
	}
	paths, all, stamp, runs := d.touched.take()
	d.noteSaved(paths)
	paths = slices.DeleteFunc(paths, func(p string) bool { return !surveyDependsOn(p) })
	if !all && !stamp && !runs && len(paths) == 0 {
		return nil
	}
	d.busy, d.again = true, false
	surveyor, partial := d.surveyor, d.partial
	return func() tea.Msg {
		if !all {
			if stamp {
				paths = append(paths, surveyor.Newer()...)
			}
			var s *survey.Survey
			var err error
			if runs {
				s = surveyor.Recount()
			}
			if len(paths) > 0 {
				s, err = surveyor.Update(paths)
			}
			return surveyDoneMsg{s, err}
		}
		s, err := surveyor.Survey(func(s *survey.Survey) {
			select {
			case partial <- s:
			default: // the page has not shown the last one yet
			}
		})
		return surveyDoneMsg{s, err}
	}
}

// rememberCmd writes what the survey read for the next start.
func (d *desk) rememberCmd() tea.Cmd {
	surveyor := d.surveyor
	return func() tea.Msg {
		_ = surveyor.Remember() // without it the next start is slower
		return nil
	}
}

// surveyDependsOn reports whether a survey may depend on a path that changed.
func surveyDependsOn(p string) bool {
	return survey.Wants(path.Base(p)) || !toolchain.IsSource(p) // folders, too
}

// matters reports by its name whether a changed file counts here: a task file, a source, or what a
// watched run read, made or looked for.
func (d *desk) matters(name string) bool {
	if survey.Wants(name) || toolchain.IsSource(name) {
		return true
	}
	names := d.learnedNames.Load()
	return names != nil && (*names)[name]
}

// learnNames takes the names of the files of watched runs.
func (d *desk) learnNames(learned map[string]learn.Records) {
	names := map[string]bool{}
	for _, records := range learned {
		for _, k := range records {
			for i := range k.Stamps {
				if s := &k.Stamps[i]; !filepath.IsAbs(s.Path) {
					names[path.Base(s.Path)] = true
				}
			}
		}
	}
	d.learnedNames.Store(&names)
}

func (d *desk) listenSurvey() tea.Cmd {
	return func() tea.Msg { return surveyPartMsg{<-d.partial} }
}

func (d *desk) listenRuns() tea.Cmd {
	return func() tea.Msg {
		<-d.changes
		return runsChangedMsg{}
	}
}

func (d *desk) listenFiles() tea.Cmd {
	return func() tea.Msg {
		<-d.files
		return filesChangedMsg{}
	}
}

// surveyed takes a survey, whole or in part.
func (d *desk) surveyed(s *survey.Survey, err error) {
	if err != nil {
		d.say(true, "the workspace could not be read: %v; what was read before is shown", err)
		return
	}
	if s == nil {
		return
	}
	d.survey, d.lacking = s, nil
	d.super.SetContext(run.Context{Root: d.root, Tally: s.Tally, File: d.currentFile(), Search: workspace.NewFinder(d.root).Find})
	if d.watcher != nil && !s.Partial {
		d.watcher.Follow(s.Watched)
	}
	d.tell(surveyedMsg{})
}

// currentFile is the current file, absolute, or "": the one that the user chose or
// handed over, else the source file saved last.
func (d *desk) currentFile() string {
	if d.file != "" {
		return d.file
	}
	return d.saved
}

// currentRel is the current file relative to the workspace, or "" if there is none
// in it.
func (d *desk) currentRel() string {
	file := d.currentFile()
	if file == "" {
		return ""
	}
	rel, err := filepath.Rel(d.root, file)
	if err != nil || strings.HasPrefix(rel, "..") {
		return ""
	}
	return filepath.ToSlash(rel)
}

// noteSaved takes the source file saved last from what changed.
func (d *desk) noteSaved(paths []string) {
	newest := ""
	var at int64
	for _, p := range paths {
		if !toolchain.IsSource(p) || filepath.IsAbs(p) {
			continue
		}
		full := filepath.Join(d.root, filepath.FromSlash(p))
		if info, err := os.Stat(full); err == nil && info.Mode().IsRegular() && info.ModTime().UnixNano() > at {
			newest, at = full, info.ModTime().UnixNano()
		}
	}
	if newest == "" {
		return
	}
	d.tell(sourcesChangedMsg{})
	if newest != d.saved {
		d.saved = newest
		if d.file == "" {
			d.currentFileChanged()
		}
	}
}

// inHandMsg is a file, absolute, that came into hand in a connected editor.
type inHandMsg string

// takeInHand makes a source file of the workspace the current one, unless another one was chosen.
func (d *desk) takeInHand(file string) {
	rel, err := filepath.Rel(d.root, file)
	if err != nil || !filepath.IsLocal(rel) || !toolchain.IsSource(file) || file == d.saved {
		return
	}
	if info, err := os.Stat(file); err != nil || !info.Mode().IsRegular() {
		return
	}
	if d.saved = file; d.file == "" {
		d.currentFileChanged()
	}
}

func (d *desk) currentFileChanged() {
	ctx := d.super.Context()
	ctx.File = d.currentFile()
	d.super.SetContext(ctx)
	d.tell(currentFileMsg{})
}

// keepCurrent makes a file, absolute, the current one whatever is saved.
func (d *desk) keepCurrent(file string) {
	d.file = file
	d.currentFileChanged()
	d.say(false, "the current file is %s until f chooses another", d.currentRel())
}

// staleCmd finds what is known of the tasks before they run, beside the loop.
func (d *desk) staleCmd() tea.Cmd {
	if d.survey == nil {
		return nil
	}
	type look struct {
		task    *task.Task
		records learn.Records
	}
	var looks []look
	for _, t := range d.survey.Tasks {
		if records := d.known(t.ID()); len(records) > 0 {
			looks = append(looks, look{t, records})
		}
	}
	if len(looks) == 0 && len(d.looks) == 0 {
		return nil
	}
	root, ctx := d.root, d.super.Context()
	return func() tea.Msg {
		found := make(staleMsg, len(looks))
		for _, l := range looks {
			found[l.task.ID()] = plan.OutlookOf(l.task, l.records, root, ctx.SettingOf(l.task))
		}
		return found
	}
}

// staleMsg brings what is known of tasks before they run, by their ids.
type staleMsg map[string]plan.Outlook

// known returns the records of what a task read and made: those of this sitting before those of the
// store.
func (d *desk) known(id string) learn.Records {
	if heard := d.recorder.heardOf(id); heard != nil {
		return heard
	}
	if d.past == nil {
		return nil
	}
	return d.past.learned[id]
}

// fromWords says how it is known what a task reads.
func fromWords(o *plan.Outlook) string {
	switch o.From {
	case learn.Watched:
		return "learned by watching a run"
	case plan.FromTool:
		return "as its build tool says"
	}
	return "by what it declares"
}
