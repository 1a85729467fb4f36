package run

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"sync"
	"time"

	"tidytally/core/crash"
	"tidytally/core/output"
	"tidytally/core/plan"
	"tidytally/core/printable"
	"tidytally/core/task"
)

// Job is the run of a task with its steps before, beside and after it. A step that is to
// stay up and is up already is the run that another job started.
type Job struct {
	Plan  *plan.Plan
	Steps []*Run // in the order of the plan
	Main  *Run
	super *Supervisor
	done  chan struct{}
	woven *woven // nil for a plan whose steps run one by one
	room  *slots // for the steps of this job; nil for any number

	takenUp bool // from a program that ended: only what batch systems have goes on

	mu     sync.Mutex // guards the fields below
	failed *Run       // the first step that failed: what waited is not begun
	folder *jobFolder // of what batch systems have; nil while they have nothing
}

// woven is the output of all steps, line by line as it came.
type woven struct {
	weaver *output.Weaver

	mu    sync.Mutex // guards the fields below
	spool *output.Spool
	index *output.Index
}

// Write takes lines of the weaver.
func (w *woven) Write(b []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.spool.Write(b)
	w.index.Write(b)
	return len(b), nil
}

// Woven calls f with the index of the outputs of all steps woven into one. It returns false if
// there is none. f must not keep the index.
func (j *Job) Woven(f func(*output.Index)) bool {
	if j.woven == nil {
		return false
	}
	j.woven.mu.Lock()
	defer j.woven.mu.Unlock()
	f(j.woven.index)
	return true
}

// weave begins to weave the outputs of the job.
func (j *Job) weave() error {
	spool, err := output.NewSpool(j.super.spools.Path(), "woven")
	if err != nil {
		return err
	}
	j.woven = &woven{spool: spool, index: output.NewIndex(spool)}
	j.woven.weaver = output.NewWeaver(j.woven, "\n")
	return nil
}

// strand returns where the output of a step goes besides; nil for nowhere.
func (j *Job) strand(r *Run) io.Writer {
	if j.woven == nil {
		return nil
	}
	return j.woven.weaver.Strand(printable.Text(r.Prepared.Task.Name))
}

// Done is closed when all steps have ended.
func (j *Job) Done() <-chan struct{} { return j.done }

// Files calls f for each file of a test suite that the job ran, with its task, how many seconds
// it took and whether it was good.
func (j *Job) Files(f func(t *task.Task, seconds float64, good bool)) {
	for i, r := range j.Steps {
		t := j.Plan.Steps[i].Task
		if s := r.Snapshot(); t.IsPartOf(j.Plan.Task) && (s.State == OK || s.State == Failed) {
			f(t, s.Ended.Sub(s.Started).Seconds(), s.State == OK)
		}
	}
}

// Job returns the job that started the run.
func (r *Run) Job() *Job { return r.job }

// Start runs a task with further arguments. tasks are those that it may name. If a
// step cannot be prepared, that is an error, and nothing runs.
func (s *Supervisor) Start(tasks []*task.Task, t *task.Task, args []string) (*Job, error) {
	p, err := plan.Of(tasks, t)
	if err != nil {
		return nil, err
	}
	return s.StartPlan(p, args)
}

// StartPlan runs the steps of a plan, with further arguments for its task.
func (s *Supervisor) StartPlan(p *plan.Plan, args []string) (*Job, error) {
	j, err := s.assemble(p, args)
	if err != nil {
		return nil, err
	}
	s.beginJob(j)
	return j, nil
}

// assemble prepares the steps of a plan.
func (s *Supervisor) assemble(p *plan.Plan, args []string) (*Job, error) {
	ctx := s.Context()
	if p.File != "" {
		ctx.File, ctx.Line = p.File, p.Line
	}
	j := &Job{Plan: p, super: s, done: make(chan struct{})}
	prepared := make([]*Prepared, len(p.Steps))
	for i := range p.Steps {
		t := p.Steps[i].Task
		prepared[i] = &Prepared{Task: t}
		if t.Command.IsZero() {
			continue
		}
		var more []string
		if i == p.Main {
			more = args
		}
		var err error
		if prepared[i], err = ctx.Prepare(t, more); err != nil {
			return nil, err
		}
	}
	for i := range p.Steps {
		r := s.borrow(prepared[i], p.Steps[i].Role)
		if r == nil {
			r = newRun(s, j, prepared[i])
			if r.batched() {
				r.handed = &handed{run: r, step: i, given: make(chan struct{})}
			}
		}
		j.Steps = append(j.Steps, r)
	}
	if p.AtOnce > 0 {
		j.room = &slots{limit: func() int { return p.AtOnce }}
	}
	if s.opts.Weave && p.Concurrent() {
		if err := j.weave(); err != nil {
			return nil, fmt.Errorf("no place for the output: %w; make room, or set TMPDIR to a disk that has some", err)
		}
	}
	j.Main = j.Steps[p.Main]
	j.Main.Args = args
	return j, nil
}

// beginJob numbers the steps of a job and lets them run.
func (s *Supervisor) beginJob(j *Job) {
	s.mu.Lock()
	for _, r := range j.Steps {
		if r.job == j {
			s.next++
			r.ID = s.next
			s.runs = append(s.runs, r)
		}
	}
	s.mu.Unlock()
	for i, r := range j.Steps { // slots are given in the order in which things were started
		if r.job == j && len(j.Plan.Steps[i].After) == 0 && j.Plan.Steps[i].Role != plan.After && !r.Prepared.Command.IsZero() && r.holdsSlot() {
			r.queue()
		}
	}
	s.jobs.Go(j.run)
}

// newRun makes a run that waits.
func newRun(s *Supervisor, j *Job, p *Prepared) *Run {
	return &Run{
		Prepared: p, super: s, job: j, users: 1, state: Waiting,
		up: make(chan struct{}), done: make(chan struct{}), halt: make(chan struct{}), hurry: make(chan struct{}),
	}
}

// ended is called when a step has come to its end, before others take its slot.
func (j *Job) ended(r *Run, state State) {
	i := slices.Index(j.Steps, r)
	if state != OK && i >= 0 && j.Plan.Steps[i].Role == plan.Before && !j.super.staysUp(j.Plan.Steps[i].Task) {
		j.fail(r)
	}
}

// borrow returns the run of a long-running step that is up already, with the same
// command, folder and environment, or nil. The job becomes one of its users.
func (s *Supervisor) borrow(p *Prepared, role plan.Role) *Run {
	if !s.staysUp(p.Task) || role != plan.Before && role != plan.With {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range s.runs {
		q := r.Prepared
		if q.Task.ID() != p.Task.ID() || q.Display != p.Display || q.Dir != p.Dir || !slices.Equal(q.Env, p.Env) || r.users == 0 {
			continue
		}
		if snap := r.Snapshot(); !snap.Stopping && (snap.State == Running || snap.State == Up || snap.State == Watching) {
			r.users++
			return r
		}
	}
	return nil
}

// release ends a job's use of a step that stays up. The last user stops it, unless it was
// started for itself.
func (r *Run) release() {
	r.super.mu.Lock()
	r.users--
	last := r.users == 0
	r.super.mu.Unlock()
	if last {
		r.Stop()
		<-r.done
	}
}

// StatusVariable is in the environment of the tasks that run after another one: its exit
// code.
const StatusVariable = "TIDYTALLY_STATUS"

// run runs the steps, each when those that it waits for are over, and returns when all have
// ended.
func (j *Job) run() {
	defer close(j.done)
	for _, late := range []bool{false, true} {
		var steps sync.WaitGroup
		for i := range j.Steps {
			if (j.Plan.Steps[i].Role == plan.After) == late {
				steps.Go(func() {
					if err := crash.Contain("a step", func() { j.step(i) }); err != nil {
						j.Steps[i].cannotGoOn(err)
					}
				})
			}
		}
		steps.Wait()
	}
	j.dropFolder()
}

// step runs one step, and ends it when nobody needs it any more.
func (j *Job) step(i int) {
	r, step := j.Steps[i], &j.Plan.Steps[i]
	switch {
	case r.job == j && j.takenUp && r.handed != nil && r.handed.array != nil:
		r.attend()
	case r.job == j && j.takenUp && !r.Prepared.Command.IsZero():
		r.skip("Tidy Tally had ended before it began")
	case r.job == j:
		why, ok := j.clear(i)
		if ok && step.Role == plan.After {
			code := j.Steps[step.Of].Snapshot().Code
			r.Prepared.Env = append(slices.Clip(r.Prepared.Env), StatusVariable+"="+strconv.Itoa(code))
		}
		if ok {
			why, ok = r.launch(i)
		}
		if !ok {
			r.skip(why)
		}
	}
	if i == j.Plan.Main {
		<-r.done
		return
	}
	var holders []int // the steps that this one is kept for
	switch {
	case step.Role == plan.With:
		for k := range j.Plan.Steps {
			if slices.Contains(j.Plan.Steps[k].With, i) {
				holders = append(holders, k)
			}
		}
	case step.Role == plan.Before && j.super.staysUp(step.Task):
		holders = []int{j.Plan.Main}
	case step.Role == plan.After && j.super.staysUp(step.Task):
		for k := range j.Plan.Steps {
			if j.Plan.Steps[k].Role == plan.After && !j.super.staysUp(j.Plan.Steps[k].Task) {
				holders = append(holders, k)
			}
		}
	default:
		<-r.done
		return
	}
	for _, k := range holders {
		<-j.Steps[k].done
	}
	r.release()
}

// fail notes that a step before others has failed.
func (j *Job) fail(r *Run) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.failed == nil {
		j.failed = r
	}
}

// upWithin is how long a step waits for another one to be up.
const upWithin = 10 * time.Minute

// clear waits until the steps before step i are over. It reports whether the step may begin,
// and if not, why.
func (j *Job) clear(i int) (why string, ok bool) {
	r, step := j.Steps[i], &j.Plan.Steps[i]
	for _, k := range step.After {
		other := j.Steps[k]
		name := other.Prepared.Task.ShownID()
		if !j.super.staysUp(other.Prepared.Task) {
			r.waitsFor(name)
			handed := j.bothHanded(i, k)
			select {
			case <-other.done:
			case <-handed: // the engine waits for it
				r.handed.after = append(r.handed.after, other.handed)
				continue
			case <-r.halt:
				return "", false
			}
			if other.Snapshot().State != OK && !j.Plan.KeepGoing {
				return other.blame(), false
			}
			continue
		}
		r.waitsFor(name + " to be up")
		late := time.NewTimer(upWithin)
		defer late.Stop()
		select {
		case <-other.up:
		case <-other.done:
			j.fail(other)
			return other.blame(), false
		case <-late.C:
			j.fail(other)
			return fmt.Sprintf("%s was not up within %s", name, upWithin), false
		case <-r.halt:
			return "", false
		}
	}
	return j.lost(i)
}

// bothHanded returns what is closed when step k is in the care of the batch system to which step i goes too; nil, which never is, if they
// do not go to the same.
func (j *Job) bothHanded(i, k int) <-chan struct{} {
	r, other := j.Steps[i], j.Steps[k]
	if r.handed == nil || other.handed == nil || other.job != j || r.Prepared.remote.place.Name != other.Prepared.remote.place.Name {
		return nil
	}
	return other.handed.given
}

// lost reports that step i need not begin because another one failed, and which.
func (j *Job) lost(i int) (why string, ok bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.failed != nil && j.Plan.Steps[i].Role != plan.After && !j.Plan.KeepGoing {
		return j.failed.blame(), false
	}
	return "", true
}

// blame returns the reason that the steps behind this one give for not running.
func (r *Run) blame() string {
	s := r.Snapshot()
	name := r.Prepared.Task.ShownID()
	switch s.State {
	case Skipped:
		return name + " was not run"
	case Stopped:
		return name + " was stopped"
	case OK:
		return name + " ended before it was needed"
	}
	return name + " " + s.Words()
}

// waitsFor records the step or slot that the run waits for.
func (r *Run) waitsFor(what string) {
	r.mu.Lock()
	r.waits = what
	r.version++
	r.mu.Unlock()
	r.super.changed(r)
}

// launch starts a waiting run, step i of its job. It reports whether it did, and if not, why;
// without a reason it was stopped before.
func (r *Run) launch(i int) (why string, ok bool) {
	t := r.Prepared.Task
	switch {
	case !r.Prepared.Command.IsZero():
		if past := r.fresh(); past != nil {
			r.leaveOut(past)
			return "", true
		}
		if !r.awaitPlace() || !r.takeSlot() {
			return "", false
		}
		if why, ok = r.job.lost(i); !ok {
			r.giveSlot()
			return why, false
		}
		r.start()
		return "", true
	case len(t.With) > 0:
		r.group(i)
		return "", true
	}
	select {
	case <-r.halt:
		return "", false
	default:
		r.end(r.sum(i)) // it only names others
		return "", true
	}
}

// sum returns how a step without a command ends: as those before it did. It takes the time of those that ended.
func (r *Run) sum(i int) State {
	failed := 0
	before := r.job.Plan.Steps[i].After
	for _, k := range before {
		s := r.job.Steps[k].Snapshot()
		if r.job.Steps[k].job == r.job && s.State.Ended() && s.Replayed.IsZero() && !s.Started.IsZero() {
			r.mu.Lock()
			if r.started.IsZero() || s.Started.Before(r.started) {
				r.started = s.Started
			}
			r.mu.Unlock()
		}
		if s.State.Ended() && s.State != OK {
			failed++
			r.mu.Lock()
			if r.code == 0 {
				r.code = max(1, s.Code)
			}
			r.mu.Unlock()
		}
	}
	if failed == 0 {
		return OK
	}
	r.mu.Lock()
	r.fault = fmt.Sprintf("%d of %d failed", failed, len(before))
	r.mu.Unlock()
	return Failed
}

// holdsSlot reports whether the run of a step takes a slot while it runs. What stays up does
// not, nor what runs beside another step, which may need it.
func (r *Run) holdsSlot() bool {
	if r.Prepared.Task.LongRunning || r.batched() { // a batch system has its own
		return false
	}
	i := slices.Index(r.job.Steps, r)
	return i < 0 || r.job.Plan.Steps[i].Role != plan.With || r.Prepared.Task.Reruns()
}

// queue puts a run that needs a slot into the queue: that of its job first, if it has one.
func (r *Run) queue() {
	in := r.home()
	if r.job.room != nil {
		in = r.job.room
	}
	q := in.join(r.ID)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.queued, r.queuedIn = q, in
}

// home returns the slots of where the run is: here, or at its place.
func (r *Run) home() *slots {
	if r.Prepared.remote == nil {
		return r.super.slots
	}
	return r.super.slotsAt(r.Prepared.remote.place)
}

// takeSlot waits for a slot, if the run needs one. It returns false if it was stopped before.
func (r *Run) takeSlot() bool {
	if !r.holdsSlot() {
		select {
		case <-r.halt:
			return false
		default:
			return true
		}
	}
	if r.queued == nil {
		r.queue()
	}
	r.mu.Lock()
	q, in := r.queued, r.queuedIn
	r.queued = nil
	r.mu.Unlock()
	r.waitsFor(aSlot)
	if !in.take(q, r.halt, r.hurry) {
		return false
	}
	if home := r.home(); in != home && !home.take(home.join(r.ID), r.halt, r.hurry) {
		in.give(1)
		return false
	}
	r.mu.Lock()
	r.slot, r.waits = true, ""
	r.mu.Unlock()
	return true
}

// aSlot is the reason of a run that waits only for a free slot.
const aSlot = "a slot"

// giveSlot gives the run's slot back, if it has one.
func (r *Run) giveSlot() {
	r.mu.Lock()
	had := r.slot
	r.slot = false
	r.mu.Unlock()
	if !had {
		return
	}
	r.home().give(1)
	if r.job.room != nil {
		r.job.room.give(1)
	}
}

// WaitsForASlot reports whether a run waits for nothing but a slot.
func (r *Run) WaitsForASlot() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.waitsForSlot()
}

// waitsForSlot is WaitsForASlot. It must be called with mu held.
func (r *Run) waitsForSlot() bool { return r.state == Waiting && r.waits == aSlot && !r.hurried }

// Hurry starts a run that waits for a slot beyond the budget. It reports whether it waited.
func (r *Run) Hurry() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.waitsForSlot() {
		return false
	}
	r.hurried = true
	close(r.hurry)
	return true
}

// group runs a step that has no command but partners: it lasts as long as they do. When one
// of them fails, all end.
func (r *Run) group(i int) {
	j := r.job
	r.mu.Lock()
	r.state, r.started = Running, time.Now()
	r.version++
	r.mu.Unlock()
	r.super.changed(r)
	state := OK
	partners := j.Plan.Steps[i].With
	over := make(chan *Run, len(partners))
	for _, k := range partners {
		go func() {
			<-j.Steps[k].done
			over <- j.Steps[k]
		}()
	}
	for range partners {
		select {
		case other := <-over:
			switch s := other.Snapshot(); s.State {
			case OK:
				continue
			case Stopped:
				state = Stopped
			default:
				state = Failed
				r.mu.Lock()
				r.fault, r.code = other.blame(), max(1, s.Code)
				r.mu.Unlock()
			}
		case <-r.halt:
			state = Stopped
		}
		for _, k := range partners {
			j.stopOwn(k)
		}
		for _, k := range partners {
			if j.Steps[k].job == j {
				<-j.Steps[k].done
			}
		}
		break
	}
	r.end(state)
}

// stopOwn stops a step that no other job uses.
func (j *Job) stopOwn(i int) {
	r := j.Steps[i]
	r.super.mu.Lock()
	alone := r.job == j && r.users == 1
	r.super.mu.Unlock()
	if !alone {
		return
	}
	select {
	case <-r.done:
	default:
		r.Stop()
	}
}

// stopOthers stops the steps before and beside the main one that no other job uses. Those
// after it still run.
func (j *Job) stopOthers() {
	for i := range j.Steps {
		if i != j.Plan.Main && j.Plan.Steps[i].Role != plan.After {
			j.stopOwn(i)
		}
	}
}

// skip ends a run that never started, and says why.
func (r *Run) skip(why string) {
	r.mu.Lock()
	state := Skipped
	if r.stopping {
		state = Stopped
	}
	r.blamed = why
	q := r.queued
	r.mu.Unlock()
	if q != nil {
		r.queuedIn.withdraw(q)
	}
	r.end(state)
}
