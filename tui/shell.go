// Package tui is the terminal interface: it shows the core's values on the pages
// of a ledger and sends the core requests. It holds no truth of its own.
//
// A Model is the shell: it takes messages, hands keys and clicks to the page in
// front, and draws heading, footing and keys around it. The pages are values of
// the interface page, listed in pages.go; what they share lies on the desk.
package tui

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/crash"
	"tidytally/core/files"
	"tidytally/core/keep"
	"tidytally/core/run"
	"tidytally/core/session"
	"tidytally/tui/ink"
)

// Model is the whole interface.
type Model struct {
	*desk
	pages    []page
	at       page // in front
	previous page
	help     help
	choice   *choice // a question that is open, or nil

	notice   string // what just happened, until the next key
	bad      bool   // the notice is of something that went wrong
	quitting bool   // asked once already
	asked    bool   // whether something went on at batch systems without us

	lastClick time.Time
	lastRow   int // of that click, on the screen
}

// newModel makes the interface of a workspace, on a session that is opened as the options say.
func newModel(root string, o session.Options) (*Model, error) {
	m := &Model{desk: &desk{
		root: root, ink: ink.NewWell(), width: 80 - 2*paperEdge, height: 24, clock: time.Now, execute: onTheScreen, readFile: files.Read, readsFor: frame, now: time.Now(), given: map[string]*given{},
		news: make(chan struct{}, 1), faults: make(chan error, 8),
	}}
	m.desk.shell = m
	var err error
	if m.kept, err = keep.Load(root); err != nil {
		m.say(true, "%v", err)
	}
	o.Run.Terminal, o.Run.Weave, o.Run.Cols, o.Run.Rows = true, true, 80, 24
	o.Changed, o.Fault = func() { nudge(m.news) }, m.tellFault
	if m.session, err = session.Open(root, o); err != nil {
		return nil, err
	}
	m.snap = m.session.Snapshot()
	m.pages = pagesOf(m.desk)
	m.at, m.previous = m.pages[0], m.pages[0]
	return m, nil
}

// Init begins the survey and listens for news.
func (m *Model) Init() tea.Cmd {
	m.session.Touch()
	return tea.Batch(m.listen(), tea.RequestBackgroundColor)
}

// frame is how long the page may lag behind a run: changes within it are shown
// together.
const frame = 16 * time.Millisecond

// clockTick is how often the elapsed times of what runs are drawn again.
const clockTick = 500 * time.Millisecond

func (m *Model) tick() tea.Cmd {
	return tea.Tick(clockTick, func(t time.Time) tea.Msg { return tickMsg(t) })
}

// Update takes one message.
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	m.now, m.waited = m.clock(), false
	var cmd tea.Cmd
	m.contained("the page "+m.front(), func() { cmd = m.take(msg) })
	m.clamp()
	return m, m.containedCmd(cmd)
}

// contained does a piece of work of the interface. A panic in it is told in the footing, and costs nothing else.
func (m *Model) contained(what string, f func()) {
	if err := crash.Contain(what, f); err != nil {
		m.say(true, "%v", err)
	}
}

// containedCmd returns a command whose panics are told in the footing, and so are those of the commands that it
// leads to.
func (m *Model) containedCmd(cmd tea.Cmd) tea.Cmd {
	if cmd == nil {
		return nil
	}
	return func() (msg tea.Msg) {
		if err := crash.Contain("a piece of work beside the pages", func() { msg = cmd() }); err != nil {
			return failedMsg{err}
		}
		if batch, ok := msg.(tea.BatchMsg); ok {
			for i := range batch {
				batch[i] = m.containedCmd(batch[i])
			}
		}
		return msg
	}
}

// failedMsg brings the fault of a command.
type failedMsg struct{ err error }

func (m *Model) take(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width-2*paperEdge, msg.Height
		return m.tell(msg)
	case failedMsg:
		m.say(true, "%v", msg.err)
		return nil
	case tea.BackgroundColorMsg:
		m.ink.Dark = msg.IsDark()
		return m.tell(sourcesChangedMsg{}) // excerpts are drawn again
	case newsMsg:
		return tea.Batch(m.takeNews(), tea.Tick(frame, func(time.Time) tea.Msg { return listenMsg{} }))
	case tookUpMsg:
		m.tookUp(msg)
		return nil
	case inHandMsg:
		m.session.Took(string(msg))
		return nil
	case listenMsg:
		return m.listen()
	case tickMsg:
		if m.ticking = m.goesOn(); m.ticking {
			return m.tick()
		}
		return nil
	case editedMsg:
		if msg.err != nil {
			m.say(true, "editor: %v", msg.err)
		}
		m.session.Touch()
		return m.tell(sourcesChangedMsg{})
	case tea.PasteMsg:
		if m.typingTo() != nil {
			m.typeKeys([]byte(msg.Content))
			return nil
		}
		if f := m.field(); f != nil {
			f.update(msg)
		}
		return nil
	case tea.KeyPressMsg:
		return m.press(msg)
	case tea.MouseClickMsg:
		if msg.Button == tea.MouseLeft {
			return m.click(msg.Y)
		}
		return nil
	case tea.MouseWheelMsg:
		switch msg.Button {
		case tea.MouseWheelUp:
			m.at.scroll(-wheelRows)
		case tea.MouseWheelDown:
			m.at.scroll(wheelRows)
		}
		return nil
	}
	return m.tell(msg)
}

// wheelRows is how far one step of the wheel scrolls.
const wheelRows = 3

func (m *Model) say(bad bool, format string, args ...any) {
	m.notice, m.bad = fmt.Sprintf(format, args...), bad
}

func (m *Model) front() string { return m.at.name() }

func (m *Model) typing() bool { return m.field() != nil }

// tell hands a message to all pages, whose state is then in order.
func (m *Model) tell(msg tea.Msg) tea.Cmd {
	var cmds []tea.Cmd
	for _, p := range m.pages {
		m.contained("the page "+p.name(), func() { cmds = append(cmds, p.update(msg)) })
	}
	return tea.Batch(cmds...)
}

// goTo brings a page to the front; the page in front gives way to the one before it.
func (m *Model) goTo(name string) tea.Cmd {
	to := m.previous
	if m.at.name() != name {
		i := slices.IndexFunc(m.pages, func(p page) bool { return p.name() == name })
		to = m.pages[i]
	}
	m.previous, m.at = m.at, to
	m.help = help{}
	m.session.LookAhead()
	return m.tell(pageMsg{to.name()})
}

// pageMsg says that a page has come to the front.
type pageMsg struct{ name string }

// clamp keeps what is chosen and in view inside of what there is.
func (m *Model) clamp() {
	for _, p := range m.pages {
		m.contained("the page "+p.name(), p.clamp)
	}
}

// field is the line that is being typed, or nil.
func (m *Model) field() *field {
	if m.help.open {
		return m.help.field()
	}
	if m.choice != nil {
		return m.choice.find
	}
	return m.at.field()
}

// back clears the filter of the page, or goes to the first one.
func (m *Model) back() tea.Cmd {
	if m.at.clear() || m.at == m.pages[0] {
		return nil
	}
	return m.goTo(m.pages[0].name())
}

// stops reports whether there is something for stop to stop.
func (m *Model) stops() bool {
	r := m.at.subject()
	return r != nil && !r.Followed() && (!r.Snapshot().State.Ended() || r.HasLeftovers())
}

// stop stops the run that the page is about.
func (m *Model) stop() tea.Cmd {
	r := m.at.subject()
	switch {
	case m.stops():
		r.Stop()
	case r != nil && r.Followed() && !r.Snapshot().State.Ended():
		m.say(true, "%s runs in another Tidy Tally: stop it there", r.Prepared.Task.Name)
	default:
		m.say(false, "nothing of it is running")
	}
	return nil
}

// quit ends the program; while tasks run, it asks first.
func (m *Model) quit() tea.Cmd {
	active := slices.DeleteFunc(m.active(), func(s run.Snapshot) bool {
		return s.Elsewhere != "" || s.State == run.Waiting && s.Prepared.Command.IsZero() // a batch system goes on without us
	})
	if n := len(active); n > 0 && !m.quitting {
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

// doubleClick is how soon a second click on a row must follow the first.
const doubleClick = 400 * time.Millisecond

// click chooses what is on a row of the screen; a second click does what enter does.
func (m *Model) click(y int) tea.Cmd {
	double := m.now.Sub(m.lastClick) < doubleClick && m.lastRow == y
	m.lastClick, m.lastRow = m.now, y
	row := y - 2
	if m.help.open || row < 0 || row >= m.bodyHeight() {
		return nil
	}
	if m.choice != nil {
		if m.choice.click(row, m.bodyHeight()) && double {
			return m.answer("enter")
		}
		return nil
	}
	if m.at.click(row) && double {
		m.lastClick = time.Time{}
		if k := m.bound("enter"); k != nil {
			m.clamp() // what is chosen is then what was clicked
			return k.act()
		}
	}
	return nil
}

// paperEdge is the number of columns that stay empty on each side.
const paperEdge = 1

// Below these, in cells, a page cannot be laid out.
const (
	leastWidth  = 60
	leastHeight = 16
)

func (m *Model) tooSmall() bool { return m.width < leastWidth-2*paperEdge || m.height < leastHeight }

// View lays out the page.
func (m *Model) View() tea.View {
	v := tea.NewView("")
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "Tidy Tally: " + clean(filepath.Base(m.root))
	if m.tooSmall() {
		v.SetContent(ansi.Truncate(fmt.Sprintf("Tidy Tally needs %d by %d cells; this is %d by %d", leastWidth, leastHeight, m.width+2*paperEdge, m.height), m.width, ""))
		return v
	}
	above, below := 0, 0
	heading, footing, keys := m.front(), "", ""
	var body []string
	fault := crash.Contain("the page "+m.front(), func() {
		if m.choice == nil && !m.help.open {
			above, below = m.at.edges()
		}
		heading, body, footing, keys = m.heading(), m.body(), m.footing(), m.keyLine()
	})
	if fault != nil {
		above, below = 0, 0
		body = m.paragraph("This page cannot be drawn.", fault.Error(), "What runs goes on, and so do the other pages: t goes to the tasks, q ends.")
	}
	lines := []string{heading, m.ruleOf("═", above, "above")}
	for len(body) < m.bodyHeight() {
		body = append(body, "")
	}
	lines = append(lines, body[:m.bodyHeight()]...)
	lines = append(lines, m.ruleOf("─", below, "below"), footing, keys)
	edge := strings.Repeat(" ", paperEdge)
	v.SetContent(edge + strings.Join(lines, "\n"+edge))
	return v
}

func (m *Model) body() []string {
	switch {
	case m.choice != nil:
		return m.choice.body(m.desk)
	case m.help.open:
		return m.helpBody()
	}
	return m.at.body()
}
