package tui

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/commit"
	"tidytally/core/files"
)

// blameWithin is how long git may take to answer.
const blameWithin = 10 * time.Second

// whoChanged tells who changed the line of the chosen problem last, and in which commit. Only git
// is executed, and nothing that the workspace's configuration names.
func (p *tallyPage) whoChanged() tea.Cmd {
	row := p.current()
	if row == nil || row.p.File == "" || row.p.Line == 0 {
		p.say(false, "choose a problem with a line in a file")
		return nil
	}
	line, _ := p.placeNow(row)
	file := p.absolute(row.p.File)
	p.say(false, "asking git who changed line %d of %s", line, row.p.File)
	return func() tea.Msg { return blameMsg(blame(file, line)) }
}

// blameMsg is what git says of a line, or why it does not.
type blameMsg string

// blame asks git who changed a line last (git-blame(1), porcelain format). It asks about the commit that is checked
// out, never about the working file: that git would pass through filters, which are programs that the repository's
// configuration names. Which line of the commit is meant is found out here.
func blame(file string, line int) string {
	ctx, cancel := context.WithTimeout(context.Background(), blameWithin)
	defer cancel()
	dir, name := filepath.Dir(file), filepath.Base(file)
	now, err := files.Read(file, maxSource)
	if err != nil {
		return fmt.Sprintf("%s: %v", name, err)
	}
	lines := strings.Split(string(now), "\n")
	if line > len(lines) {
		return fmt.Sprintf("the file has only %s now", plural(len(lines), "line"))
	}
	then, err := commit.Ask(ctx, dir, maxSource, "cat-file", "blob", "HEAD:./"+name)
	if err != nil {
		return err.Error()
	}
	was := lineBefore(strings.Split(then, "\n"), lines, line)
	if was == 0 {
		return fmt.Sprintf("line %d was changed and is not committed yet", line)
	}
	out, err := commit.Ask(ctx, dir, maxSource, "blame", "--no-textconv", "--porcelain", "-L", fmt.Sprintf("%d,%d", was, was), "HEAD", "--", name)
	if err != nil {
		return err.Error()
	}
	told := strings.Split(out, "\n")
	field := func(name string) string {
		for _, l := range told {
			if v, ok := strings.CutPrefix(l, name+" "); ok {
				return v
			}
		}
		return ""
	}
	hash, _, _ := strings.Cut(told[0], " ")
	when := ""
	if seconds, err := strconv.ParseInt(field("author-time"), 10, 64); err == nil {
		when = " on " + time.Unix(seconds, 0).Format("2 January 2006")
	}
	return fmt.Sprintf("line %d: %s%s in %.7s: %s", line, field("author"), when, hash, field("summary"))
}

// mostCompared bounds the pairs of lines that are compared: of longer stretches that differ, lines are the same that
// each side has once.
const mostCompared = 4_000_000

// lineBefore returns which line of a text became line n of another one, counted from 1; 0 if it is new. Of what
// is neither at the common beginning nor at the common end, a longest common subsequence is kept.
func lineBefore(before, after []string, n int) int {
	same := func(a, b string) bool { return strings.TrimSuffix(a, "\r") == strings.TrimSuffix(b, "\r") }
	head := 0
	for head < min(len(before), len(after)) && same(before[head], after[head]) {
		head++
	}
	if n <= head {
		return n
	}
	tail := 0
	for tail < min(len(before), len(after))-head && same(before[len(before)-1-tail], after[len(after)-1-tail]) {
		tail++
	}
	if fromEnd := len(after) - n; fromEnd < tail {
		return len(before) - fromEnd
	}
	a, b := before[head:len(before)-tail], after[head:len(after)-tail]
	at := n - 1 - head
	if len(a)*len(b) > mostCompared {
		found := 0
		for i := range a {
			if same(a[i], b[at]) {
				if found != 0 {
					return 0
				}
				found = head + i + 1
			}
		}
		for j := range b {
			if j != at && same(b[j], b[at]) {
				return 0
			}
		}
		return found
	}
	// common[i][j] is the length for a[i:] and b[j:].
	common := make([][]int32, len(a)+1)
	for i := range common {
		common[i] = make([]int32, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if common[i][j] = max(common[i+1][j], common[i][j+1]); same(a[i], b[j]) {
				common[i][j] = max(common[i][j], common[i+1][j+1]+1)
			}
		}
	}
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch {
		case same(a[i], b[j]) && common[i][j] == common[i+1][j+1]+1:
			if j == at {
				return head + i + 1
			}
			i, j = i+1, j+1
		case common[i+1][j] >= common[i][j+1]:
			i++
		default:
			j++
		}
	}
	return 0
}
