package tui

import (
	tea "charm.land/bubbletea/v2"

	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/tui/ink"
)

// A page is one of the pages of the ledger: its state, its rows, its keys and
// what it makes of a click. The shell draws the heading, the footing and the keys
// around it and knows no page by name; pages.go lists them.
//
// A page embeds the desk, where what all pages share lies: the survey, the runs,
// and what is chosen. Pages tell each other with messages, which the shell hands
// to all of them.
type page interface {
	// name is the word in the heading, the footing and the help.
	name() string
	// goes is the key that goes to the page and back. Its act is the shell's.
	goes() key
	// keys are what works on the page, in the order of the help.
	keys() []key
	// update takes a message of Bubble Tea or of another page.
	update(msg tea.Msg) tea.Cmd
	// clamp keeps what is chosen and what is in view inside of what there is. The
	// shell calls it after each message.
	clamp()

	// heading writes what the heading says behind the workspace's name.
	heading(r *ink.Row)
	// body returns the rows between heading and footing, at most bodyHeight.
	body() []string
	// count returns what the footing counts, and false for the newest run of
	// each task.
	count() (problem.Balance, problem.Count, bool)

	// edges returns how many rows there are above and below those in view.
	edges() (above, below int)
	// move moves what is chosen by rows, and scroll what is in view.
	move(rows int)
	scroll(rows int)
	// click chooses what is on a row of the body, and reports whether there was
	// anything.
	click(row int) bool
	// field is the line that is being typed, or nil.
	field() *field
	// subject is the run that the page is about, which x stops; nil for none.
	subject() *run.Run
	// clear clears the filter, and reports whether there was one.
	clear() bool
}

// plainPage is what most pages do about what only some need.
type plainPage struct{}

func (plainPage) update(tea.Msg) tea.Cmd { return nil }
func (plainPage) field() *field          { return nil }
func (plainPage) clear() bool            { return false }
func (plainPage) edges() (int, int)      { return 0, 0 }
func (plainPage) count() (b problem.Balance, c problem.Count, own bool) {
	return b, c, false
}

// A key is a row of a page's table of keys, from which dispatch, footing and help
// are made.
type key struct {
	// names are as Bubble Tea spells keys; the first stands in the footing.
	names []string
	// label is the word in the footing; without one the key stands in the help
	// alone.
	label string
	help  string // without one it stands in the help beside the key before it
	act   func() tea.Cmd
	// goal is what one wants with it: the help is grouped by that.
	goal goal
	// here says more in the words of this workspace, for the help; may be nil.
	here func() string
	// anywhere says that the key works on all pages; on names the pages where it
	// works beside its own.
	anywhere bool
	on       []string
	except   string // the page on which a key for all does not work
	// ofRow says that the key does something with the chosen row.
	ofRow bool
	// when says whether the key does something now, and stands in the footing and among what can be done with the row; nil
	// for always. Pressed all the same, it says why it does nothing.
	when func() bool
	// ofRun says of the key that goes to a page that the page shows a run: of the chosen task, if
	// one was chosen.
	ofRun bool
	// late puts the key behind those that all pages have, in the footing.
	late bool
}

// goal is what one wants to do.
type goal int

const (
	toSee goal = iota
	toRun
	toFind
	toWrite
	toGo
	toMove
)

// goals are the headings of the help, in its order.
var goals = []struct {
	of   goal
	head string
}{{toRun, "run and stop"}, {toFind, "find"}, {toSee, "see more"}, {toWrite, "keep and change"}, {toGo, "go to a page"}, {toMove, "move"}}

// has reports whether the key has a name.
func (k *key) has(name string) bool {
	for _, n := range k.names {
		if n == name {
			return true
		}
	}
	return false
}

// edgesOf returns how many of count rows are above and below a view that begins at top.
func edgesOf(top, height, count int) (above, below int) {
	return top, max(0, count-top-height)
}

// scrollTo returns the first row to show so that a row is in view.
func scrollTo(top, height, count, row int) int {
	top = min(top, row)
	top = max(top, row-height+1)
	return max(0, min(top, count-height))
}
