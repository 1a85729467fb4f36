package run

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"tidytally/core/crash"
	"tidytally/core/printable"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// Steps that a batch system runs. They are handed over as arrays, with what waits for them, so that the engine schedules; here they
// are only watched. Each step writes its output and its exit code into a folder, which both sides see. When this program ends they go on,
// and a later one takes them up by the notes in that folder (taken.go).

// handed is a step in the care of a batch system.
type handed struct {
	run   *Run
	step  int // in its plan; its files are named by it
	after []*handed
	given chan struct{} // closed when the engine has it, or it has ended before

	// The goroutine of the batch changes what follows.
	array     *array
	index     int
	begun     bool
	out       *os.File
	gone      int // answers in a row that did not have it
	cancelled time.Time
	blames    string // why it is not to run
}

func (h *handed) element() element { return element{h.array.ID, h.index} }

func (h *handed) file(ending string) string {
	return filepath.Join(h.run.job.folder.path, strconv.Itoa(h.step)+ending)
}

// batch watches over the steps at one place.
type batch struct {
	super  *Supervisor
	name   string
	engine engine

	mu      sync.Mutex
	ready   []*handed // to be handed over
	given   []*handed
	stops   []*handed // to be cancelled
	working bool      // its goroutine runs
	leaving bool      // what the engine has is left to it
	wake    chan struct{}
}

// Times of the watch over a batch system. Whatever the number of jobs, it is asked once in askEvery.
const (
	collectFor = 50 * time.Millisecond // steps that become ready together are one array
	followEach = 250 * time.Millisecond
	restFor    = 20 // times what a look at the files took, until the next: of thousands of steps it takes a while
	askEvery   = time.Second
	retryFirst = time.Second // of what is away; doubled each time
	retryLast  = 30 * time.Second
	// goneAfter is the number of answers without a job, after which it has ended without saying how: the file system may be behind.
	goneAfter = 3
	// cancelWithin is how long a cancelled job may go on before that is told.
	cancelWithin = time.Minute
)

// batchAt returns the watch over a place.
func (s *Supervisor) batchAt(p *tallyfile.Place) *batch {
	name := p.Name
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.batches == nil {
		s.batches = map[string]*batch{}
	}
	if s.batches[name] == nil {
		s.batches[name] = &batch{super: s, name: name, engine: engineOf(p), wake: make(chan struct{}, 1)}
	}
	return s.batches[name]
}

// batched reports whether the run is of a batch system, not of a process here.
func (r *Run) batched() bool {
	return r.Prepared.remote != nil && engineOf(r.Prepared.remote.place) != nil
}

// handOver gives a step to the batch system.
func (r *Run) handOver() error {
	if r.super.staysUp(r.Prepared.Task) {
		return &StartError{CodeOwn, "long-running tasks cannot be batch jobs; use srun"}
	}
	if err := r.job.makeFolder(); err != nil {
		return &StartError{CodeOwn, fmt.Sprintf("no place for the job's files: %v", err)}
	}
	h := r.handed
	if err := os.WriteFile(h.file(".run"), []byte(r.Prepared.remote.attended(h)), 0o600); err != nil {
		return &StartError{CodeOwn, fmt.Sprintf("no place for the job's files: %v", err)}
	}
	r.waitsFor(r.Prepared.remote.place.Name)
	b := r.super.batchAt(r.Prepared.remote.place)
	b.mu.Lock()
	b.ready = append(b.ready, h)
	b.work()
	b.mu.Unlock()
	return nil
}

// work starts the goroutine of the batch, or wakes it. The lock is held.
func (b *batch) work() {
	if !b.working {
		b.working = true
		crash.Go("a batch system", b.watch, nil)
	}
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

// attended is the script of a step: the command, with what it prints and how it ends in files. Its folder is the same there. When the engine ends
// the job, all that the command started is ended, whatever became of it: not every engine does that.
func (f *remote) attended(h *handed) string {
	var b strings.Builder
	fmt.Fprintf(&b, "#!/bin/sh\n: >%s\nexec >%s 2>&1 </dev/null\nhit=; trap hit=1 TERM\n", task.Quote(h.file(".begin")), task.Quote(h.file(".out")))
	for _, v := range f.env {
		name, value, _ := strings.Cut(v, "=")
		fmt.Fprintf(&b, "%s=%s; export %s\n", name, task.Quote(value), name)
	}
	mark := markVariable + "=" + f.token
	fmt.Fprintf(&b, "if cd %s; then\n%s sh -c %s; code=$?\nelse code=%d; fi\n", task.Quote(f.dir), mark, task.Quote(f.line), CodeOwn)
	fmt.Fprintf(&b, "[ -z \"$hit\" ] || sh -c %s stopper %s %d TERM KILL >/dev/null\n", task.Quote(stopper), mark, hitTenths)
	end := h.file(".end")
	fmt.Fprintf(&b, "echo $code >%s; mv -f %s %s\nexit $code\n", task.Quote(end+".new"), task.Quote(end+".new"), task.Quote(end))
	return b.String()
}

// hitTenths is how long, in tenths of a second, the rest of a cancelled command has between TERM and KILL: less than KillWait in
// slurm.conf(5), which is 30 s by default.
const hitTenths = 5

// watch is the goroutine of a batch; it ends when nothing is left to watch.
func (b *batch) watch() {
	tick := time.NewTicker(followEach)
	defer tick.Stop()
	asked := time.Time{}
	pause, retry := time.Duration(0), time.Time{}
	look := time.Time{}
	for {
		woken := false
		select {
		case <-b.wake:
			b.collect()
			woken = true
		case <-tick.C:
		}
		b.cancelAll()
		if woken && pause == 0 || time.Now().After(retry) {
			if b.handAll() {
				pause = 0
			} else {
				pause = min(max(2*pause, retryFirst), retryLast)
				retry = time.Now().Add(pause)
			}
		}
		b.mu.Lock()
		given, leaving := slices.Clone(b.given), b.leaving
		b.mu.Unlock()
		if leaving {
			b.leave(given)
		}
		var now map[element]jobStatus
		if len(given) > 0 && time.Since(asked) >= askEvery {
			asked = time.Now()
			var err error
			if now, err = b.engine.queue(); err != nil {
				b.away(given, err)
			}
		}
		if began := time.Now(); now != nil || !began.Before(look) {
			b.follow(given, now)
			look = began.Add(restFor * time.Since(began))
		}
		b.mu.Lock()
		b.given = slices.DeleteFunc(b.given, func(h *handed) bool { return h.over() })
		if len(b.ready)+len(b.given)+len(b.stops) == 0 {
			b.working = false
			b.mu.Unlock()
			return
		}
		b.mu.Unlock()
	}
}

// collect waits until no more steps become ready for a moment.
func (b *batch) collect() {
	for seen := -1; ; {
		b.mu.Lock()
		n := len(b.ready)
		b.mu.Unlock()
		if n == seen {
			return
		}
		seen = n
		time.Sleep(collectFor)
	}
}

func (h *handed) over() bool {
	select {
	case <-h.run.done:
		return true
	default:
		return false
	}
}

// away says of steps that wait that the engine does not answer; those that run are followed by their files.
func (b *batch) away(given []*handed, err error) {
	for _, h := range given {
		if !h.begun {
			h.run.waitsFor(b.name + ", which does not answer: " + err.Error())
		}
	}
}

// handAll hands over what is ready, those that wait for the same as one array. It reports whether the engine took all.
func (b *batch) handAll() bool {
	b.mu.Lock()
	ready := b.ready
	b.ready = nil
	b.mu.Unlock()
	slices.SortStableFunc(ready, func(a, b *handed) int { return a.step - b.step }) // they run in the order of the plan
	type like struct {
		job   *Job
		after string
	}
	groups := map[like][]*handed{}
	var order []like
	for _, h := range ready {
		if h.over() {
			continue
		}
		if h.run.Stopping() {
			h.ends(0, time.Time{}, "")
			continue
		}
		key := like{h.run.job, h.waits().key()}
		if len(groups[key]) == 0 {
			order = append(order, key)
		}
		groups[key] = append(groups[key], h)
	}
	all := true
	for _, key := range order {
		for part := range slices.Chunk(groups[key], b.engine.largest()) {
			if err := b.hand(part); err != nil {
				all = b.refused(part, err) && all
			}
		}
	}
	return all
}

// refused fails steps that the engine did not take, or lets them wait, as the place says. It reports whether none waits.
func (b *batch) refused(part []*handed, err error) bool {
	if !part[0].run.Prepared.remote.place.Waits {
		for _, h := range part {
			h.ends(0, time.Time{}, b.name+": "+err.Error())
		}
		return true
	}
	for _, h := range part {
		h.run.waitsFor(b.name + ": " + err.Error())
	}
	b.mu.Lock()
	b.ready = append(b.ready, part...)
	b.mu.Unlock()
	return false
}

// waits is what the step waits for at the engine.
func (h *handed) waits() *dependency {
	d := &dependency{whatever: h.run.job.Plan.KeepGoing, on: map[*array][]int{}}
	for _, before := range h.after {
		if before.array != nil && !before.over() {
			d.on[before.array] = append(d.on[before.array], before.index)
		}
	}
	return d
}

// hand hands steps of one job over as an array.
func (b *batch) hand(part []*handed) error {
	j := part[0].run.job
	place := part[0].run.Prepared.remote.place
	folder := j.folder
	number := strconv.Itoa(folder.arrays)
	a := &array{Name: "tidytally-" + strings.TrimPrefix(filepath.Base(folder.path), "job-") + "-" + number}
	script := "#!/bin/sh\nset --"
	for _, h := range part {
		a.Steps = append(a.Steps, h.step)
		script += " " + strconv.Itoa(h.step)
	}
	script += "\nshift \"$" + b.engine.index() + "\"\nexec sh " + task.Quote(folder.path) + "/\"$1\".run\n"
	base := filepath.Join(folder.path, "array-"+number)
	if err := os.WriteFile(base+".run", []byte(script), 0o600); err != nil {
		return err
	}
	if err := a.write(base); err != nil { // so that it is found by its name if this program is killed now
		return err
	}
	atOnce := place.Slots
	if n := j.Plan.AtOnce; n > 0 && (atOnce == 0 || n < atOnce) {
		atOnce = n
	}
	id, err := b.engine.submit(submission{
		command: place.Command, name: a.Name, script: base + ".run", output: func(index string) string { return base + "-" + index + ".said" },
		jobs: len(part), atOnce: atOnce, after: part[0].waits(),
	})
	if err != nil {
		_ = os.Remove(base + ".array") // its name finds nothing
		return err
	}
	folder.arrays++
	a.ID = id
	if err := a.write(base); err != nil {
		return errors.Join(err, b.engine.cancel([]string{id}, nil))
	}
	for i, h := range part {
		h.array, h.index = a, i
		h.run.setElsewhere(h)
		close(h.given)
	}
	b.mu.Lock()
	b.given = append(b.given, part...)
	b.mu.Unlock()
	return nil
}

// setElsewhere records that the engine has the step.
func (r *Run) setElsewhere(h *handed) {
	r.mu.Lock()
	r.elsewhere = filepath.Base(r.job.folder.path) + "/" + strconv.Itoa(h.step)
	r.version++
	r.mu.Unlock()
	r.super.changed(r)
}

// Stopping reports whether the run was asked to end.
func (r *Run) Stopping() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.stopping
}

// follow looks at the files of the steps, and, if the engine was asked, at its answer.
func (b *batch) follow(given []*handed, now map[element]jobStatus) {
	files := map[*Job]map[string]bool{}
	for _, h := range given {
		if h.over() {
			continue
		}
		j := h.run.job
		if files[j] == nil {
			files[j] = namesIn(j.folder.path)
		}
		is := func(ending string) bool { return files[j][strconv.Itoa(h.step)+ending] }
		if is(".begin") {
			h.begins()
			h.read()
		}
		if is(".end") {
			h.ended()
			continue
		}
		if why := h.lost(); why != "" && !h.begun && h.blames == "" {
			h.blames = why
			b.stop(h) // which skips it
		}
		if now == nil {
			continue
		}
		s, there := now[h.element()]
		switch {
		case there && h.cancelled.IsZero() && h.begun:
			h.gone = 0
			h.run.isOn(s.node)
			h.timeOut(b)
		case there && h.cancelled.IsZero():
			h.gone = 0
			h.run.waitsFor(b.name + " (" + s.why + ")")
		case there && time.Since(h.cancelled) > cancelWithin:
			h.ends(0, time.Time{}, fmt.Sprintf("%s: job %s was cancelled and is still %s", b.name, h.element(), s.state))
		case !there && !h.cancelled.IsZero():
			h.read()
			h.ends(0, time.Time{}, "") // it is gone
		case !there:
			if h.gone++; h.gone < goneAfter {
				continue
			}
			state, reason := b.engine.fate(h.element())
			h.read()
			h.ends(0, time.Time{}, b.words(h, state, reason))
		}
	}
}

// words says how a job ended that did not say so itself.
func (b *batch) words(h *handed, state, reason string) string {
	text := fmt.Sprintf("%s: job %s ended without saying how", b.name, h.element())
	if state != "" {
		text = fmt.Sprintf("%s: job %s is %s", b.name, h.element(), state)
		if reason != "" && reason != "None" {
			text += " (" + reason + ")"
		}
	}
	if said := h.said(); said != "" {
		text += ": " + said
	}
	return text
}

// said returns the engine's first words about a job, from its own file; "" for none.
func (h *handed) said() string {
	number := h.array.Name[strings.LastIndexByte(h.array.Name, '-')+1:]
	f, err := os.Open(filepath.Join(h.run.job.folder.path, fmt.Sprintf("array-%s-%d.said", number, h.index)))
	if err != nil {
		return ""
	}
	defer f.Close()
	text, _ := io.ReadAll(io.LimitReader(f, maxSaid))
	line, _, _ := strings.Cut(strings.TrimSpace(string(text)), "\n")
	return printable.Text(line)
}

// maxSaid bounds in bytes what the engine says of one job.
const maxSaid = 1 << 10

func namesIn(dir string) map[string]bool {
	all := map[string]bool{}
	f, err := os.Open(dir)
	if err != nil {
		return all
	}
	defer f.Close()
	names, _ := f.Readdirnames(-1) // what is not seen now is seen the next time
	for _, name := range names {
		all[name] = true
	}
	return all
}

// begins notes that the step runs.
func (h *handed) begins() {
	if h.begun {
		return
	}
	h.begun = true
	r := h.run
	r.mu.Lock()
	r.state, r.waits, r.started = Running, "", time.Now()
	if info, err := os.Stat(h.file(".begin")); err == nil {
		r.started = info.ModTime()
	}
	r.version++
	r.mu.Unlock()
	if rec := r.super.opts.Recorder; rec != nil {
		rec.Began(r)
	}
	r.super.changed(r)
}

// isOn records the node of a step that runs.
func (r *Run) isOn(node string) {
	r.mu.Lock()
	same := r.node == node
	r.node = node
	r.version++
	r.mu.Unlock()
	if !same {
		r.super.changed(r)
	}
}

// timeOut ends a step that runs for too long.
func (h *handed) timeOut(b *batch) {
	r := h.run
	r.mu.Lock()
	late := r.Prepared.Timeout > 0 && time.Since(r.started) > r.Prepared.Timeout && !r.timedOut
	if late {
		r.timedOut = true
	}
	r.mu.Unlock()
	if late {
		b.stop(h)
	}
}

// read takes what the step has printed since.
func (h *handed) read() {
	if h.out == nil {
		var err error
		if h.out, err = os.Open(h.file(".out")); err != nil {
			return
		}
	}
	buf := make([]byte, 64<<10)
	for {
		n, err := h.out.Read(buf)
		if n > 0 && h.run.take(buf[:n]) != nil {
			h.out.Close() // whoever receives it is gone, as in a pipe of the shell
			h.out = nil
			h.run.Stop()
			return
		}
		if n == 0 || err != nil {
			return
		}
	}
}

// ended takes the exit code that the step has left.
func (h *handed) ended() {
	text, err := os.ReadFile(h.file(".end"))
	if err != nil {
		return // the next time
	}
	at := time.Now()
	if info, err := os.Stat(h.file(".end")); err == nil {
		at = info.ModTime()
	}
	h.begins()
	h.read()
	code, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil || code < 0 || code > 255 {
		h.ends(0, at, "the job left no exit code: "+printable.Text(string(text)))
		return
	}
	fault := ""
	if code == 128+int(syscall.SIGTERM) && !h.run.Stopping() {
		fault = h.said() // the engine has ended it, and says why
	}
	h.ends(code, at, fault)
}

// lost reports that a step before this one has failed, so that it does not run, and which.
func (h *handed) lost() string {
	if h.run.job.Plan.KeepGoing {
		return ""
	}
	for _, before := range h.after {
		if before.over() && before.run.Snapshot().State != OK {
			return before.run.blame()
		}
	}
	return ""
}

// skip ends a step that did not begin, and says why.
func (h *handed) skip(why string) {
	h.close()
	h.run.skip(why)
}

func (h *handed) close() {
	if h.out != nil {
		h.out.Close()
		h.out = nil
	}
	select {
	case <-h.given:
	default:
		close(h.given)
	}
}

// ends ends the run of a step: by its exit code, or by a fault. Without a time that is now.
func (h *handed) ends(code int, at time.Time, fault string) {
	h.close()
	r := h.run
	r.mu.Lock()
	state := OK
	switch {
	case r.timedOut:
		state, r.code, r.fault = Failed, CodeOwn, fmt.Sprintf("stopped after its time-out of %s", r.Prepared.Timeout)
	case fault != "" && code == 0:
		state, r.code, r.fault = Failed, CodeOwn, fault
	case code > 128 && code < 128+65:
		state, r.code, r.signal, r.fault = Failed, code, signalName(syscall.Signal(code-128)), fault
	case code != 0:
		state, r.code = Failed, code
	}
	if r.stopping {
		if state = Stopped; r.code == 0 {
			r.code = 128 + int(syscall.SIGTERM) // which scancel(1) sends
		}
	}
	r.overAt = at
	r.mu.Unlock()
	r.end(state)
}

// stop lets the engine cancel a step.
func (b *batch) stop(h *handed) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.stops = append(b.stops, h)
	b.work()
}

// cancelAll cancels what is to end: arrays that end whole by one id.
func (b *batch) cancelAll() {
	b.mu.Lock()
	stops := b.stops
	b.stops = nil
	b.mu.Unlock()
	ends := map[*array][]*handed{}
	for _, h := range stops {
		if h.array != nil {
			ends[h.array] = append(ends[h.array], h)
		}
	}
	var arrays []string
	var single []element
	for a, hs := range ends {
		if len(hs) == len(a.Steps) {
			arrays = append(arrays, a.ID)
			continue
		}
		for _, h := range hs {
			single = append(single, h.element())
		}
	}
	if len(ends) == 0 {
		return
	}
	err := b.engine.cancel(arrays, single)
	for _, hs := range ends {
		for _, h := range hs {
			switch {
			case h.over():
			case h.blames != "":
				h.skip(h.blames)
			case err != nil:
				h.ends(0, time.Time{}, fmt.Sprintf("%s does not cancel job %s, which may go on: %v", b.name, h.element(), err))
			default:
				h.cancelled = time.Now()
			}
		}
	}
}

// LeaveBatches lets all steps that batch systems have go on without this program. A later one takes them up. It returns when they are left.
func (s *Supervisor) LeaveBatches() {
	if s.opts.Jobs == "" {
		return
	}
	s.mu.Lock()
	batches := slices.Collect(maps.Values(s.batches))
	s.mu.Unlock()
	for _, b := range batches {
		b.mu.Lock()
		b.leaving = true
		given := slices.Clone(b.given)
		if b.working {
			b.work()
		}
		b.mu.Unlock()
		for _, h := range given {
			<-h.run.done
		}
	}
}

// leave ends what is watched, without an end of the jobs.
func (b *batch) leave(given []*handed) {
	for _, h := range given {
		if !h.over() && !h.run.Stopping() {
			h.close()
			h.run.end(Left)
		}
	}
}
