// Package tui is the terminal interface: it shows the core's values on the
// pages of a ledger and sends the core requests. It holds no truth of its own.
package tui

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/keep"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/task"
	"tidytally/core/toolchain"
	"tidytally/core/workspace"
)

// page is one of the pages of the ledger.
type page int

const (
	tasksPage page = iota
	outputPage
	tallyPage
	surveyPage
	valuesPage
	sievePage
)

func (p page) name() string {
	return [...]string{tasksPage: "tasks", outputPage: "output", tallyPage: "tally", surveyPage: "survey", valuesPage: "values", sievePage: "sieve"}[p]
}

// Model is the whole interface.
type Model struct {
	root   string
	file   string // in hand by the user's will, absolute
	saved  string // the source file saved last, absolute
	kept   *keep.Kept
	stale  staleMsg // files that changed since the last good run, by task id
	choice *choice
	width  int
	height int
	ink    inkwell

	page     page
	previous page
	help     bool
	// helpFind is what is looked for in the help.
	helpFinding bool
	helpFind    input
	helpTop     int
	notice      string // a line that says what just happened, until the next key
	bad         bool   // the notice is of something that went wrong
	quitting    bool   // asked once already

	survey   *survey.Survey
	surveyor *survey.Surveyor
	busy     bool // a survey is being made
	again    bool // and another is due
	touched  touchedFiles
	super    *run.Supervisor
	watcher  *workspace.Watcher
	changes  chan struct{} // something changed in a run
	files    chan struct{} // something changed in the workspace
	partial  chan *survey.Survey
	now      time.Time
	ticking  bool

	records map[string]*record // by task id
	tasks   tasksView
	values  valuesView
	output  outputView
	tally   tallyView
	surveys surveyView
	sieves  sieveView

	await []*run.Run // those whose problems come to the front by themselves

	lastClick time.Time
	lastAt    [2]int
}

// record is what is known of a task's runs in this session.
type record struct {
	runs     []*run.Run
	lastArgs []string
	earlier  [][]string // arguments of earlier runs, the newest last
	compared comparedRun
}

// comparedRun is what a run found, against the task's run before or the cycle
// before. It is worked out once for each change of the run.
type comparedRun struct {
	of       *run.Run
	version  int
	problems []problem.Problem
	count    problem.Count
	problem.Comparison
}

// last is the newest run of a task, or nil.
func (m *Model) last(t *task.Task) *run.Run {
	if rec := m.records[t.ID()]; rec != nil && len(rec.runs) > 0 {
		return rec.runs[len(rec.runs)-1]
	}
	return nil
}

// Open shows the interface on the workspace at root until the user quits. All
// that it started is stopped before it returns.
func Open(root, file string) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	m := &Model{
		root: root, file: file, ink: newInkwell(), width: 80 - 2*paperEdge, height: 24, now: time.Now(),
		changes: make(chan struct{}, 1), files: make(chan struct{}, 1), partial: make(chan *survey.Survey, 1), records: map[string]*record{},
		surveyor: survey.NewSurveyor(root),
	}
	var kerr error
	if m.kept, kerr = keep.Load(root); kerr != nil {
		m.say(true, "%v", kerr)
	}
	m.tasks.recent = slices.Clone(m.kept.Recent)
	m.output.follow = true
	super, err := run.NewSupervisor(run.Context{Root: root, File: file}, run.Options{
		Terminal: true, Cols: 80, Rows: 24, Changed: func(*run.Run) { nudge(m.changes) },
	})
	if err != nil {
		return err
	}
	m.super = super
	defer super.Close()
	if m.watcher, err = workspace.NewWatcher(root, matters, filepath.Dir(survey.PersonalFile())); err != nil {
		m.say(true, "changes of files are not seen: %v", err)
	} else {
		watching := make(chan struct{})
		go func() {
			m.watcher.Run(ctx, func(paths []string) {
				m.touched.add(paths)
				nudge(m.files)
			}, func() {
				m.touched.recheck()
				nudge(m.files)
			})
			close(watching)
		}()
		defer func() {
			cancel()
			<-watching
		}()
	}
	_, err = tea.NewProgram(m, tea.WithContext(ctx)).Run()
	return err
}

// touchedFiles gathers what changed in the workspace since the last survey.
type touchedFiles struct {
	mu    sync.Mutex
	paths map[string]bool
	all   bool
	stamp bool // the files' time stamps say more
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

// recheck says that what changed must be told by time stamps.
func (t *touchedFiles) recheck() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.stamp = true
}

// take gives what was gathered, and forgets it.
func (t *touchedFiles) take() (paths []string, all, stamp bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	paths, all, stamp = slices.Collect(maps.Keys(t.paths)), t.all, t.stamp
	t.paths, t.all, t.stamp = nil, false, false
	return paths, all, stamp
}

// nudge wakes whoever waits on a channel, once for any number of nudges.
func nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

type (
	surveyedMsg struct {
		survey *survey.Survey
		err    error
	}
	partlySurveyedMsg struct{ survey *survey.Survey }
	filesChangedMsg   struct{}
	runsChangedMsg    struct{}
	listenMsg         struct{}
	tickMsg           time.Time
	editedMsg         struct{ err error }
)

// Init begins the survey and listens for changes.
func (m *Model) Init() tea.Cmd {
	m.touched.add(nil)
	return tea.Batch(m.surveyCmd(), m.listenSurvey(), m.listenRuns(), m.listenFiles(), tea.RequestBackgroundColor)
}

// surveyCmd surveys what changed, one survey at a time.
func (m *Model) surveyCmd() tea.Cmd {
	if m.busy {
		m.again = true
		return nil
	}
	paths, all, stamp := m.touched.take()
	m.noteSaved(paths)
	paths = slices.DeleteFunc(paths, func(p string) bool { return !surveysOn(p) })
	if !all && !stamp && len(paths) == 0 {
		return nil
	}
	m.busy, m.again = true, false
	surveyor, partial := m.surveyor, m.partial
	return func() tea.Msg {
		if !all {
			if stamp {
				paths = append(paths, surveyor.Newer()...)
			}
			if len(paths) == 0 {
				return surveyedMsg{} // nothing changed
			}
			s, err := surveyor.Update(paths)
			return surveyedMsg{s, err}
		}
		s, err := surveyor.Survey(func(s *survey.Survey) {
			select {
			case partial <- s:
			default: // the page has not shown the last one yet
			}
		})
		return surveyedMsg{s, err}
	}
}

// surveysOn tells whether a survey may hang on a path that changed.
func surveysOn(p string) bool {
	return survey.Wants(path.Base(p)) || !toolchain.IsSource(p) // folders, too
}

func (m *Model) listenSurvey() tea.Cmd {
	return func() tea.Msg { return partlySurveyedMsg{<-m.partial} }
}

func (m *Model) listenRuns() tea.Cmd {
	return func() tea.Msg {
		<-m.changes
		return runsChangedMsg{}
	}
}

func (m *Model) listenFiles() tea.Cmd {
	return func() tea.Msg {
		<-m.files
		return filesChangedMsg{}
	}
}

// frame is how long the page may lag behind a run: changes within it are shown
// together.
const frame = 16 * time.Millisecond

func (m *Model) tick() tea.Cmd {
	return tea.Tick(500*time.Millisecond, func(t time.Time) tea.Msg { return tickMsg(t) })
}

// Update takes one message.
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	m.now = time.Now()
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width-2*paperEdge, msg.Height
		m.super.Resize(m.outputColumns(), m.bodyHeight())
		m.tasks.top = 0 // as much of the top as the chosen row allows
		m.clamp()
	case tea.BackgroundColorMsg:
		m.ink.dark = msg.IsDark()
		m.tally.excerpts = nil
	case surveyedMsg:
		m.busy = false
		m.surveyed(msg)
		if m.again {
			return m, tea.Batch(m.surveyCmd(), m.staleCmd())
		}
		return m, m.staleCmd()
	case staleMsg:
		m.stale = msg
		if strings.Contains(m.tasks.find.String(), "stale") {
			m.arrange()
		}
	case partlySurveyedMsg:
		if m.busy && (m.survey == nil || m.survey.Partial) {
			m.surveyed(surveyedMsg{survey: msg.survey})
		}
		return m, m.listenSurvey()
	case versionsMsg:
		if msg.file == m.inHand() {
			m.tasks.compilers, m.tasks.opened = msg.tasks, true
			m.say(false, "%s for %s", plural(len(msg.tasks), "way"), msg.file)
			m.arrange()
			for i, r := range m.tasks.tasks {
				if len(msg.tasks) > 0 && m.tasks.rows[r].task == msg.tasks[0] {
					m.tasks.chosen = i
				}
			}
			m.clamp()
		}
	case filesChangedMsg:
		return m, tea.Batch(m.surveyCmd(), m.staleCmd(), m.listenFiles())
	case runsChangedMsg:
		m.bringForward()
		m.refreshRuns()
		var look tea.Cmd
		if m.noteGood() {
			look = m.staleCmd()
		}
		cmds := []tea.Cmd{look, tea.Tick(frame, func(time.Time) tea.Msg { return listenMsg{} })}
		if !m.ticking && len(m.active()) > 0 {
			m.ticking = true
			cmds = append(cmds, m.tick())
		}
		return m, tea.Batch(cmds...)
	case listenMsg:
		return m, m.listenRuns()
	case tickMsg:
		if m.ticking = len(m.active()) > 0; m.ticking {
			return m, m.tick()
		}
	case editedMsg:
		if msg.err != nil {
			m.say(true, "editor: %v", msg.err)
		}
		m.tally.excerpts = nil
		m.touched.add(nil)
		return m, m.surveyCmd()
	case tea.PasteMsg:
		if in := m.typing(); in != nil {
			in.insert(msg.Content)
			m.typed()
		}
	case tea.KeyPressMsg:
		return m, m.press(msg)
	case tea.MouseClickMsg:
		if msg.Button == tea.MouseLeft {
			return m, m.click(msg.X-paperEdge, msg.Y)
		}
	case tea.MouseWheelMsg:
		switch msg.Button {
		case tea.MouseWheelUp:
			m.scroll(-3)
		case tea.MouseWheelDown:
			m.scroll(3)
		}
	}
	return m, nil
}

func (m *Model) surveyed(msg surveyedMsg) {
	if msg.err != nil {
		m.say(true, "the workspace could not be read: %v; what was read before is shown", msg.err)
		return
	}
	if msg.survey == nil {
		return
	}
	m.survey = msg.survey
	m.super.SetContext(run.Context{Root: m.root, Tally: msg.survey.Tally, File: m.handFile(), Search: workspace.NewFinder(m.root).Find})
	if m.watcher != nil && !msg.survey.Partial {
		m.watcher.Follow(msg.survey.Folders)
	}
	m.surveys.show(m.surveyRows())
	m.surveys.clamp(m)
	m.arrange()
	m.fillValues()
	m.tally.refresh(m)
	m.clamp()
}

// press takes a key.
func (m *Model) press(k tea.KeyPressMsg) tea.Cmd {
	key := k.String()
	wasQuitting := m.quitting
	m.quitting = false
	m.notice, m.bad = "", false
	if in := m.typing(); in != nil {
		return m.type_(in, k)
	}
	if m.choice != nil {
		return m.answer(key)
	}
	if by, ok := map[string]int{"up": -1, "down": 1, "pgup": 2 - m.bodyHeight(), "pgdown": m.bodyHeight() - 2, "space": m.bodyHeight() - 2}[key]; ok && m.help {
		m.helpTop += by
		return nil
	}
	if m.help && key == "/" {
		m.helpFinding = true
		return nil
	}
	if m.help && key != "?" && key != "q" && key != "ctrl+c" {
		m.help = false
		if key == "esc" {
			return nil
		}
	}
	if t := m.taskOnKey(key); t != nil {
		return m.start(t, nil)
	}
	b := bound(key, m.page)
	if b == nil {
		return nil
	}
	if key == "q" || key == "ctrl+c" {
		m.quitting = wasQuitting
	}
	return b.act(m)
}

// taskOnKey finds the task that a tally file gives a key, if the key is free.
func (m *Model) taskOnKey(key string) *task.Task {
	if m.survey == nil || bound(key, m.page) != nil {
		return nil
	}
	for _, t := range m.survey.Tasks {
		if t.Key != "" && strings.EqualFold(t.Key, key) {
			return t
		}
	}
	return nil
}

// typing is the line that is being typed, or nil.
func (m *Model) typing() *input {
	switch {
	case m.help && m.helpFinding:
		return &m.helpFind
	case m.page == tasksPage && m.tasks.asking:
		return &m.tasks.arguments
	case m.page == tasksPage && m.tasks.finding:
		return &m.tasks.find
	case m.page == outputPage && m.output.finding:
		return &m.output.find
	case m.page == tallyPage && m.tally.finding:
		return &m.tally.find
	case m.page == sievePage && m.sieves.editing:
		return &m.sieves.edit
	}
	return nil
}

// type_ gives a key to the line that is being typed.
func (m *Model) type_(in *input, k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "esc", "ctrl+c":
		return m.endTyping(false)
	case "enter":
		return m.endTyping(true)
	case "up", "down":
		if m.tasks.asking && m.page == tasksPage {
			m.recallArguments(k.String() == "up")
			return nil
		}
		if k.String() == "up" {
			return m.move(-1)
		}
		return m.move(1)
	}
	if in.key(k) {
		m.typed()
	}
	return nil
}

// typed follows what was typed.
func (m *Model) typed() {
	if m.page == tasksPage && m.tasks.finding && !m.tasks.asking {
		m.arrange()
	}
	if m.page == tallyPage {
		m.tally.refresh(m)
		m.clamp()
	}
}

func (m *Model) endTyping(accept bool) tea.Cmd {
	switch {
	case m.help:
		m.helpFinding = false
		if !accept {
			m.help = false
		}
	case m.page == tasksPage && m.tasks.asking:
		m.tasks.asking = false
		if accept {
			return m.runWithArguments()
		}
	case m.page == tasksPage:
		m.tasks.finding = false
		if !accept {
			m.tasks.find = input{}
			m.arrange()
		}
	case m.page == tallyPage:
		m.tally.finding = false
		if !accept {
			m.tally.find = input{}
		}
		m.tally.refresh(m)
		m.clamp()
	case m.page == sievePage:
		m.sieves.editing = false
		if accept {
			return m.keepRule()
		}
	case m.page == outputPage:
		m.output.finding = false
		if accept {
			return m.findNext()
		}
		m.output.find = input{}
	}
	return nil
}

// say shows a line in the footing until the next key.
func (m *Model) say(bad bool, format string, args ...any) {
	m.notice, m.bad = clean(fmt.Sprintf(format, args...)), bad
}

func (m *Model) goTo(p page) tea.Cmd {
	if m.page == p {
		p = m.previous
	}
	m.previous, m.page, m.help = m.page, p, false
	if p == valuesPage {
		m.values = valuesView{}
		m.fillValues()
	}
	m.clamp()
	return nil
}

func (m *Model) back() tea.Cmd {
	switch {
	case m.page == tasksPage && len(m.tasks.find.text) > 0:
		m.tasks.find = input{}
		m.arrange()
	case m.page == tallyPage && len(m.tally.find.text) > 0:
		m.tally.find = input{}
		m.tally.refresh(m)
		m.clamp()
	case m.page != tasksPage:
		m.page, m.previous = tasksPage, m.page
	}
	return nil
}

func (m *Model) toggleHelp() tea.Cmd {
	m.help = !m.help
	m.helpFinding, m.helpFind, m.helpTop = false, input{}, 0
	return nil
}

func (m *Model) quit() tea.Cmd {
	if n := len(m.active()); n > 0 && !m.quitting {
		m.quitting = true
		what := "a task runs"
		if n > 1 {
			what = fmt.Sprintf("%d tasks run", n)
		}
		m.say(true, "%s: q again stops all and quits, any other key stays", what)
		return nil
	}
	return tea.Quit
}

// active are the runs that have not ended.
func (m *Model) active() []run.Snapshot {
	var out []run.Snapshot
	for _, r := range m.super.Runs() {
		if s := r.Snapshot(); !s.State.Ended() {
			out = append(out, s)
		}
	}
	return out
}

// start runs a task, unless a standing one runs already.
func (m *Model) start(t *task.Task, args []string) tea.Cmd {
	if r := m.last(t); r != nil && t.LongRunning {
		if s := r.Snapshot(); !s.State.Ended() {
			m.say(false, "%s is %s already; x stops it", t.Name, s.Words())
			return nil
		}
	}
	job, err := m.super.Start(m.survey.Tasks, t, args)
	if err != nil {
		m.say(true, "%v", err)
		return nil
	}
	for _, r := range job.Steps {
		id := r.Prepared.Task.ID()
		rec := m.records[id]
		if rec == nil {
			rec = &record{}
			m.records[id] = rec
		}
		rec.runs = append(rec.runs, r)
	}
	rec := m.records[t.ID()]
	if rec.lastArgs = args; len(args) > 0 {
		rec.earlier = append(rec.earlier, args)
	}
	m.kept.Ran(t.ID())
	m.save()
	m.choose(job.Main)
	switch t.Show {
	case "always":
		m.page, m.previous = outputPage, m.page
	case "on-problem":
		m.await = append(m.await, job.Main)
	}
	return nil
}

// bringForward goes to the tally of a run that has ended with problems, where
// its task says so.
func (m *Model) bringForward() {
	m.await = slices.DeleteFunc(m.await, func(r *run.Run) bool {
		s := r.Snapshot()
		if !s.State.Ended() {
			return false
		}
		if len(s.Problems) > 0 && m.typing() == nil {
			m.choose(r)
			m.previous, m.page = m.page, tallyPage
		}
		return true
	})
}

// choose makes a run the one that the output and the tally show.
func (m *Model) choose(r *run.Run) {
	m.output.run = r
	m.output.follow, m.output.top = true, 0
	m.tally.chosen = 0
	m.refreshRuns()
}

// refreshRuns takes note of what changed in the runs.
func (m *Model) refreshRuns() {
	m.tally.refresh(m)
	m.clamp()
}

// compared gives the problems of a run against those of the task's run before,
// or of the cycle before.
func (m *Model) compared(r *run.Run) *comparedRun {
	s := r.Snapshot()
	rec := m.records[s.Prepared.Task.ID()]
	if rec == nil {
		rec = &record{}
	}
	if c := &rec.compared; c.of == r && c.version == s.Version {
		return c
	}
	before := s.Before
	if i := slices.Index(rec.runs, r); s.Cycle == 0 && i > 0 {
		before = rec.runs[i-1].Snapshot().Problems
	}
	rec.compared = comparedRun{r, s.Version, s.Problems, problem.CountOf(s.Problems), problem.Compare(before, s.Problems)}
	return &rec.compared
}

// paperEdge is the number of columns that stay empty on each side.
const paperEdge = 1

// tooSmall is below what a page can be laid out for.
func (m *Model) tooSmall() bool { return m.width < 60-2*paperEdge || m.height < 16 }

// bodyHeight is the number of rows between the heading and the footing.
func (m *Model) bodyHeight() int { return max(1, m.height-2-3) }

// View lays out the page.
func (m *Model) View() tea.View {
	v := tea.NewView("")
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "Tidy Tally: " + clean(filepath.Base(m.root))
	if m.tooSmall() {
		v.SetContent(ansi.Truncate(fmt.Sprintf("Tidy Tally needs 60 by 16 cells; this is %d by %d", m.width+2*paperEdge, m.height), m.width, ""))
		return v
	}
	lines := []string{m.heading(), m.ink.write(strings.Repeat("═", m.width), Slate)}
	body := m.body()
	for len(body) < m.bodyHeight() {
		body = append(body, "")
	}
	lines = append(lines, body[:m.bodyHeight()]...)
	lines = append(lines, m.ink.write(strings.Repeat("─", m.width), Slate), m.footing(), m.keyLine())
	edge := strings.Repeat(" ", paperEdge)
	v.SetContent(edge + strings.Join(lines, "\n"+edge))
	return v
}

func (m *Model) body() []string {
	if m.choice != nil {
		return m.choiceBody()
	}
	if m.help {
		return m.helpBody()
	}
	switch m.page {
	case outputPage:
		return m.outputBody()
	case tallyPage:
		return m.tallyBody()
	case surveyPage:
		return m.surveyBody()
	case valuesPage:
		return m.valuesBody()
	case sievePage:
		return m.sieveBody()
	}
	return m.tasksBody()
}

// move moves what is chosen, or the text, by rows.
func (m *Model) move(rows int) tea.Cmd {
	switch m.page {
	case tasksPage:
		m.tasks.move(rows)
	case outputPage:
		m.scroll(rows)
	case tallyPage:
		m.tally.move(rows)
	case surveyPage:
		m.surveys.move(rows)
	case valuesPage:
		m.values.chosen += rows
	case sievePage:
		if rows == 1 || rows == -1 {
			m.sieves.chosen += rows
		} else {
			m.sieves.top += rows
		}
	}
	m.clamp()
	return nil
}

// scroll moves the view by rows.
func (m *Model) scroll(rows int) {
	if m.page != outputPage {
		m.move(rows)
		return
	}
	m.output.scroll(rows)
	m.clamp()
}

// clamp keeps what is chosen and the view inside of what there is.
func (m *Model) clamp() {
	m.tasks.clamp(m)
	m.values.clamp(m)
	m.output.clamp(m)
	m.tally.clamp(m)
	m.surveys.clamp(m)
	m.sieves.clamp(m)
}

// doubleClick is how soon a second click must follow the first.
const doubleClick = 400 * time.Millisecond

// click chooses the row under the mouse; a second click runs or opens it.
func (m *Model) click(x, y int) tea.Cmd {
	at := [2]int{x, y}
	double := m.now.Sub(m.lastClick) < doubleClick && m.lastAt[1] == y
	m.lastClick, m.lastAt = m.now, at
	row := y - 2
	if m.help || row < 0 || row >= m.bodyHeight() {
		return nil
	}
	if m.choice != nil {
		return m.clickChoice(row, double)
	}
	chosen := false
	switch m.page {
	case tasksPage:
		chosen = m.tasks.click(row)
	case tallyPage:
		chosen = m.tally.click(row)
	case surveyPage:
		chosen = m.surveys.click(row)
	case outputPage:
		chosen = m.clickOutput(row)
	case valuesPage:
		chosen = m.values.click(row)
	}
	m.clamp()
	if chosen && double {
		m.lastClick = time.Time{}
		if b := bound("enter", m.page); b != nil {
			return b.act(m)
		}
	}
	return nil
}

// openEditor opens the user's editor at a place and comes back to the page.
func (m *Model) openEditor(file string, line, column int) tea.Cmd {
	if !filepath.IsAbs(file) {
		file = filepath.Join(m.root, filepath.FromSlash(file))
	}
	if _, err := os.Stat(file); err != nil {
		m.say(true, "%s: it is gone; it was there when it was read", file)
		return nil
	}
	cmd, err := editorCommand(file, line, column)
	if err != nil {
		m.say(true, "%v", err)
		return nil
	}
	return tea.ExecProcess(cmd, func(err error) tea.Msg { return editedMsg{err} })
}
