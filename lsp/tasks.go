package lsp

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidytally/core/plan"
	"tidytally/core/printable"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/task"
)

// Commands that the client may execute. Their arguments are the workspace's folder, the id of a task, and
// further arguments of that, as far as each takes them.
const (
	commandRun      = "tidytally.run"
	commandShow     = "tidytally.show"
	commandUsual    = "tidytally.runUsual"
	commandRunAgain = "tidytally.runAgain"
	commandStop     = "tidytally.stop"
)

func commands() []string {
	return []string{commandRun, commandShow, commandUsual, commandRunAgain, commandStop}
}

// actionKind is the kind of our code actions.
const actionKind = "source.tidytally"

// started is a task that runs here.
type started struct {
	space *space
	task  *task.Task
	job   *run.Job
	token string // of its progress; "" where the client shows none
	begun time.Time
	usual time.Duration // that it takes; 0 if that is not known
	told  string        // how far it is
}

// declared returns the tasks that a document declares, in the order of their lines.
func (s *Server) declared(uri string) (w *space, tasks []*task.Task) {
	path := pathOf(uri)
	if path == "" {
		return nil, nil
	}
	w, rel := s.spaceOf(real(path))
	if w == nil || w.survey == nil {
		return nil, nil
	}
	for _, t := range w.survey.Tasks {
		if o := t.Origin("name"); o.File == rel && o.Line > 0 && !t.Hidden && (!t.Command.IsZero() || len(t.With)+len(t.Before) > 0) {
			tasks = append(tasks, t)
		}
	}
	slices.SortStableFunc(tasks, func(a, b *task.Task) int {
		return cmp.Or(a.Origin("name").Line-b.Origin("name").Line, a.Origin("name").Column-b.Origin("name").Column)
	})
	return w, tasks
}

// nameOf returns where a task is named in the file that declares it: in the client's text of it, as it was surveyed.
func (s *Server) nameOf(w *space, t *task.Task) position {
	o := t.Origin("name")
	at := position{o.Line - 1, 0}
	if d := s.documents[w.absolute(o.File)]; d != nil && o.Column > 0 {
		at.Character = s.encoding.ofRune(d.line(at.Line), o.Column-1)
	}
	return at
}

// maxLenses bounds the lenses of a document.
const maxLenses = 500

func (s *Server) lenses(p *documentParams) (any, error) {
	w, tasks := s.declared(p.TextDocument.URI)
	out := []codeLens{}
	for _, t := range tasks[:min(len(tasks), maxLenses)] {
		at := s.nameOf(w, t)
		r := span{at, at}
		out = append(out,
			codeLens{r, command{"run " + printable.Text(t.Name), commandRun, []any{w.root, t.ID()}}},
			codeLens{r, command{"show", commandShow, []any{w.root, t.ID()}}})
	}
	return out, nil
}

// maxChoices bounds the values of an argument that are offered one by one.
const maxChoices = 8

func (s *Server) actions(p *rangeParams) (any, error) {
	w, tasks := s.declared(p.TextDocument.URI)
	out := []codeAction{}
	add := func(title, name string, args ...any) {
		out = append(out, codeAction{title, actionKind, command{title, name, append([]any{w.root}, args...)}})
	}
	for i, t := range tasks {
		from := s.nameOf(w, t)
		from.Character = 0
		next := position{from.Line + 1, 0} // the declaration goes on to the next one in a tally file, whose tables are long
		if t.Source == "tally" {
			next.Line = 1 << 30
		}
		if i > 0 && tasks[i-1].Origin("name").Line-1 == from.Line {
			from = s.nameOf(w, t)
		}
		if i+1 < len(tasks) {
			if after := s.nameOf(w, tasks[i+1]); before(after, next) {
				next = after
			}
		}
		if !before(p.Range.Start, next) || before(p.Range.End, from) {
			continue
		}
		name, id := printable.Text(t.Name), t.ID()
		add("run "+name, commandRun, id)
		add("show what "+name+" runs", commandShow, id)
		for _, preset := range slices.Sorted(func(yield func(string) bool) {
			for preset := range t.Presets {
				if !yield(preset) {
					return
				}
			}
		}) {
			if words, err := task.SplitWords(t.Presets[preset]); err == nil {
				add("run "+name+" with "+preset, commandRun, append([]any{id}, anys(words)...)...)
			}
		}
		for _, a := range t.Args {
			for _, choice := range a.Choices[:min(len(a.Choices), maxChoices)] {
				add("run "+name+" with "+a.Name+"="+choice, commandRun, id, a.Name+"="+choice)
			}
		}
	}
	return out, nil
}

func anys(words []string) (out []any) {
	for _, w := range words {
		out = append(out, w)
	}
	return out
}

// execute executes a command that the client asks for.
func (s *Server) execute(p *executeParams) (any, error) {
	words := make([]string, len(p.Arguments))
	for i, a := range p.Arguments {
		if json.Unmarshal(a, &words[i]) != nil {
			return nil, errors.New("an argument of a command is a string")
		}
	}
	w, words, err := s.spaceFor(words)
	if err != nil {
		return nil, err
	}
	if w.survey == nil || w.survey.Partial { // the task may be in a file that is not read yet
		return nil, errReading
	}
	switch p.Command {
	case commandRun, commandShow:
		if len(words) == 0 {
			return nil, errors.New("say which task: its id is the argument after the folder")
		}
		t, err := task.Find(w.survey.Tasks, words[0])
		if err != nil {
			return nil, err
		}
		if p.Command == commandShow {
			return nil, w.showTask(t)
		}
		return nil, w.start(t, words[1:])
	case commandUsual:
		t := w.survey.Usual()
		if t == nil {
			return nil, errors.New("the workspace has no usual task: write usual = \"ID\" into [workspace] of the tally file")
		}
		return nil, w.start(t, nil)
	case commandRunAgain:
		for i := len(s.runs) - 1; i >= 0; i-- {
			if r := s.runs[i]; r.space == w {
				if t := w.find(r.task.ID()); t != nil {
					return nil, w.start(t, r.job.Main.Args)
				}
			}
		}
		return nil, errors.New("nothing was run here yet")
	case commandStop:
		for _, r := range s.runs {
			if r.space == w && (len(words) == 0 || r.task.ID() == words[0]) {
				go r.job.Main.Stop() // it returns when all is gone
			}
		}
		return nil, nil
	}
	return nil, fmt.Errorf("there is no command %s", p.Command)
}

// spaceFor returns the workspace that a command is for, and its other arguments. Where only one is open it
// need not be named.
func (s *Server) spaceFor(words []string) (*space, []string, error) {
	if len(words) > 0 {
		for _, w := range s.spaces {
			if w.root == words[0] || w.root == real(words[0]) {
				return w, words[1:], nil
			}
		}
	}
	if len(s.spaces) == 1 {
		return s.spaces[0], words, nil
	}
	return nil, nil, errors.New("say in which workspace: its folder is the first argument")
}

// showTask shows what a task runs.
func (w *space) showTask(t *task.Task) error {
	ctx := w.session.Context()
	text := t.Command.String()
	if prepared, err := ctx.Prepare(t, nil); err == nil {
		text = prepared.Display
	}
	if script := t.Shown(text); script != text {
		text += ", which is " + script
	}
	w.show(messageInfo, fmt.Sprintf("%s runs %s in %s", t.ShownID(), printable.Text(text), t.Dir))
	return nil
}

// maxEnded bounds the runs that are remembered once they have ended.
const maxEnded = 100

// start runs a task.
func (w *space) start(t *task.Task, args []string) error {
	of, err := plan.Of(w.survey.Tasks, t)
	if err != nil {
		return err
	}
	job, err := w.session.StartPlan(of, args)
	if err != nil {
		return err
	}
	w.conduct(job)
	return nil
}

// conduct shows the progress of a job, and how it ends.
func (w *space) conduct(job *run.Job) {
	r := &started{space: w, task: job.Plan.Task, job: job, begun: time.Now()}
	if past := w.session.Snapshot().Past; past != nil {
		r.usual = past.Expected[r.task.ID()]
	}
	if len(w.runs) > maxEnded {
		w.runs = slices.DeleteFunc(w.runs, func(r *started) bool { return r.ended() })
	}
	w.runs = append(w.runs, r)
	r.beginProgress()
	go func() {
		<-job.Done()
		w.do(r.end)
	}()
}

func (r *started) ended() bool {
	select {
	case <-r.job.Done():
		return true
	default:
		return false
	}
}

func (r *started) beginProgress() {
	w := r.space
	if !w.client.Capabilities.Window.WorkDoneProgress {
		return
	}
	w.token++
	r.token = fmt.Sprintf("tidytally-%d", w.token)
	w.ask("window/workDoneProgress/create", map[string]any{"token": r.token})
	begin := map[string]any{"kind": "begin", "title": printable.Text(r.task.Name), "cancellable": true}
	if r.usual > 0 {
		begin["message"], begin["percentage"] = "usually "+printable.Duration(r.usual), 0
	}
	w.notify("$/progress", map[string]any{"token": r.token, "value": begin})
}

func (r *started) report() {
	if r.token == "" {
		return
	}
	snap := r.job.Main.Snapshot()
	report := map[string]any{"kind": "report", "message": snap.Words()}
	if past := time.Since(r.begun); r.usual > 0 && snap.State == run.Running {
		report["percentage"] = min(99, int(100*past/r.usual))
		report["message"] = fmt.Sprintf("about %s to go", printable.Duration(max(0, r.usual-past).Round(time.Second)))
	}
	if told := fmt.Sprint(report); told != r.told {
		r.told = told
		r.space.notify("$/progress", map[string]any{"token": r.token, "value": report})
	}
}

// end tells how a run has ended.
func (r *started) end() {
	w := r.space
	if w.state != running {
		return
	}
	var found [][]problem.Problem
	notChecked := 0
	for _, step := range r.job.Steps {
		snap := step.Snapshot()
		found = append(found, snap.Problems)
		notChecked += w.session.Verdict(step).Balance.NotChecked
	}
	snap := r.job.Main.Snapshot()
	words := snap.Closing(problem.CountOf(found...), notChecked)
	if snap.Fault != "" {
		words += "; " + snap.Fault
	}
	if snap.Blamed != "" {
		words += "; " + snap.Blamed
	}
	if r.token != "" {
		w.notify("$/progress", map[string]any{"token": r.token, "value": map[string]any{"kind": "end", "message": snap.Words()}})
	}
	kind := messageInfo
	if snap.State == run.Failed || snap.State == run.Skipped {
		kind = messageError
	}
	w.show(kind, strings.ReplaceAll(printable.Text(words), "\n", " "))
	w.take()
}

func (s *Server) progressCancelled(p *struct{ Token json.RawMessage }) {
	for _, r := range s.runs {
		if token, err := json.Marshal(r.token); err == nil && r.token != "" && string(token) == string(p.Token) {
			go r.job.Main.Stop()
		}
	}
}
