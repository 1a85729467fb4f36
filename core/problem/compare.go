package problem

import (
	"sort"
	"strings"
)

// State is what became of a problem between two runs of a task.
type State uint8

// The states of a problem against the run before.
const (
	Still State = iota // was there before and still is
	New                // is new
	Gone               // was there before and is gone
	// NotChecked is of a problem that was there before, and of whose file or step the
	// later run said nothing: nobody knows.
	NotChecked
)

func (s State) String() string {
	return [...]string{Still: "still", New: "new", Gone: "gone", NotChecked: "not checked"}[s]
}

// Balance is the count of a comparison. Before + New - Gone is always Now; NotChecked of
// those are kept from before.
type Balance struct{ Before, New, Gone, NotChecked, Now int }

// Add adds the balance of another run.
func (b *Balance) Add(o Balance) {
	b.Before += o.Before
	b.New += o.New
	b.Gone += o.Gone
	b.NotChecked += o.NotChecked
	b.Now += o.Now
}

// Comparison is the difference between two runs.
type Comparison struct {
	// Found holds the problems of the later run.
	Found []Problem
	// States has one entry for each of them, in their order: Still or New.
	States []State
	// From has, for each problem of the later run, its index among those of the earlier run;
	// -1 for a new one.
	From []int
	// Gone and NotChecked hold the other problems of the earlier run, in order. GoneFrom and NotCheckedFrom are their
	// indexes there.
	Gone, NotChecked         []Problem
	GoneFrom, NotCheckedFrom []int
	Balance
}

// Rule is the version of the rule by which Compare takes two problems for the same. It is stored with what was compared
// by it, and grows when the rule changes.
const Rule = 2

// Looks is what a comparison must know of the later run. The zero value is that of a run that looked at everything.
type Looks struct {
	// Checked reports whether the later run looked at the place of a problem, by its index among the earlier ones; nil for one
	// that looked at all.
	Checked func(i int) bool
	// There reports whether a file exists; nil if that is not known, and then a file without problems may have been renamed.
	There func(file string) bool
}

// Compare matches the problems of two runs. Two problems are the same if file, code,
// severity, test and message agree, with the numbers in the message, and what else differs from run to run, ignored. Among
// several, those with the same source line come first, then those whose line moved
// least, so that inserted and deleted lines do not matter. Of the rest, problems of one test are the same; and problems are
// the same if only the name of the file changed: the source line agrees, the old
// file is not there any more, and the new one had no problems before. What is left
// is gone or not checked, as looks says.
// Cost is O(n log n).
func Compare(before, after []Problem, looks Looks) Comparison {
	c := Comparison{Found: after, States: make([]State, len(after)), From: make([]int, len(after))}
	open := make(map[string][]int, len(before))
	for i := range before {
		k := before[i].identity()
		open[k] = append(open[k], i)
	}
	wanting := make(map[string][]int, len(after))
	for i := range after {
		k := after[i].identity()
		wanting[k] = append(wanting[k], i)
	}
	gone := make([]bool, len(before))
	for i := range gone {
		gone[i] = true
	}
	for i := range c.States {
		c.States[i], c.From[i] = New, -1
	}
	match := func(pairs [][2]int) {
		for _, pair := range pairs {
			gone[pair[0]] = false
			c.States[pair[1]], c.From[pair[1]] = Still, pair[0]
		}
	}
	for k, mine := range wanting {
		old := open[k]
		if len(old) > 1 || len(mine) > 1 {
			old, mine = bySource(before, old, after, mine, match)
		}
		match(closest(before, old, after, mine))
	}
	sameTest(before, gone, after, c.States, match)
	renamed(before, gone, after, c.States, looks.There, match)
	for i, g := range gone {
		switch {
		case !g:
		case looks.Checked == nil || looks.Checked(i):
			c.Gone, c.GoneFrom = append(c.Gone, before[i]), append(c.GoneFrom, i)
		default:
			c.NotChecked, c.NotCheckedFrom = append(c.NotChecked, before[i]), append(c.NotCheckedFrom, i)
		}
	}
	for _, s := range c.States {
		if s == New {
			c.New++
		}
	}
	c.Before, c.Now = len(before), len(after)+len(c.NotChecked)
	c.Balance.Gone, c.Balance.NotChecked = len(c.Gone), len(c.NotChecked)
	return c
}

// bySource matches those of two sets of alike problems that have the same source
// line, and returns the rest.
func bySource(before []Problem, old []int, after []Problem, now []int, match func([][2]int)) (restOld, restNow []int) {
	type sides struct{ old, now []int }
	texts := map[string]*sides{}
	side := func(text string) *sides {
		if texts[text] == nil {
			texts[text] = &sides{}
		}
		return texts[text]
	}
	for _, i := range old {
		s := side(before[i].LineText)
		s.old = append(s.old, i)
	}
	for _, i := range now {
		s := side(after[i].LineText)
		s.now = append(s.now, i)
	}
	paired := map[[2]int]bool{}
	for text, s := range texts {
		if text == "" || len(s.old) == 0 || len(s.now) == 0 {
			continue
		}
		pairs := closest(before, s.old, after, s.now)
		match(pairs)
		for _, p := range pairs {
			paired[[2]int{0, p[0]}], paired[[2]int{1, p[1]}] = true, true
		}
	}
	for _, i := range old {
		if !paired[[2]int{0, i}] {
			restOld = append(restOld, i)
		}
	}
	for _, i := range now {
		if !paired[[2]int{1, i}] {
			restNow = append(restNow, i)
		}
	}
	return restOld, restNow
}

// sameTest pairs problems of one test in one file whose words differ: what a test compares may be another value each time.
func sameTest(before []Problem, gone []bool, after []Problem, states []State, match func([][2]int)) {
	type test struct{ file, name string }
	old, now := map[test][]int{}, map[test][]int{}
	for i := range before {
		if p := &before[i]; gone[i] && p.Test != "" {
			old[test{p.File, p.Test}] = append(old[test{p.File, p.Test}], i)
		}
	}
	if len(old) == 0 {
		return
	}
	for i := range after {
		if p := &after[i]; states[i] == New && p.Test != "" {
			now[test{p.File, p.Test}] = append(now[test{p.File, p.Test}], i)
		}
	}
	for k, mine := range now {
		match(closest(before, old[k], after, mine))
	}
}

// renamed pairs problems of files that have another name now.
func renamed(before []Problem, gone []bool, after []Problem, states []State, there func(string) bool, match func([][2]int)) {
	had, has := map[string]bool{}, map[string]bool{}
	for i := range before {
		had[before[i].File] = true
	}
	for i := range after {
		has[after[i].File] = true
	}
	key := func(p *Problem) string {
		nameless := *p
		nameless.File = ""
		return nameless.identity() + "\x00" + p.LineText
	}
	old, now := map[string][]int{}, map[string][]int{}
	for i := range before {
		if p := &before[i]; gone[i] && p.LineText != "" && !has[p.File] && (there == nil || !there(p.File)) {
			old[key(p)] = append(old[key(p)], i)
		}
	}
	if len(old) == 0 {
		return
	}
	for i := range after {
		if p := &after[i]; states[i] == New && p.LineText != "" && !had[p.File] {
			now[key(p)] = append(now[key(p)], i)
		}
	}
	for k, mine := range now {
		match(closest(before, old[k], after, mine))
	}
}

// closest pairs two sets of alike problems one to one. Both are put in the
// order of their lines; the shorter side is laid against the stretch of the
// longer one that moves its lines least.
func closest(before []Problem, old []int, after []Problem, now []int) [][2]int {
	sort.SliceStable(old, func(i, j int) bool { return before[old[i]].Line < before[old[j]].Line })
	sort.SliceStable(now, func(i, j int) bool { return after[now[i]].Line < after[now[j]].Line })
	pairs := make([][2]int, 0, min(len(old), len(now)))
	usedOld, usedNow := make([]bool, len(old)), make([]bool, len(now))
	take := func(i, j int) {
		usedOld[i], usedNow[j] = true, true
		pairs = append(pairs, [2]int{old[i], now[j]})
	}
	// Those that did not move at all come first.
	for i, j := 0, 0; i < len(old) && j < len(now); {
		a, b := before[old[i]].Line, after[now[j]].Line
		switch {
		case a < b:
			i++
		case a > b:
			j++
		default:
			take(i, j)
			i++
			j++
		}
	}
	// The others moved with lines inserted or deleted above them; their order stays.
	rest := func(used []bool) (left []int) {
		for i, u := range used {
			if !u {
				left = append(left, i)
			}
		}
		return left
	}
	a, b := rest(usedOld), rest(usedNow)
	if len(a) > len(b) {
		off := bestOffset(len(a)-len(b), len(b), func(i, off int) int { return before[old[a[i+off]]].Line - after[now[b[i]]].Line })
		for i := range b {
			take(a[i+off], b[i])
		}
	} else {
		off := bestOffset(len(b)-len(a), len(a), func(i, off int) int { return before[old[a[i]]].Line - after[now[b[i+off]]].Line })
		for i := range a {
			take(a[i], b[i+off])
		}
	}
	return pairs
}

// bestOffset returns the offset at which a row of n moves least. The number of tries
// is bounded so that the cost stays linear.
func bestOffset(slack, n int, distance func(i, off int) int) int {
	if n == 0 {
		return 0
	}
	best, bestCost := 0, -1
	for off := 0; off <= slack && off*n < 1<<16; off++ {
		cost := 0
		for i := 0; i < n; i++ {
			if d := distance(i, off); d < 0 {
				cost -= d
			} else {
				cost += d
			}
		}
		if bestCost < 0 || cost < bestCost {
			best, bestCost = off, cost
		}
	}
	return best
}

// identity is the part of a problem that does not change when lines move.
func (p *Problem) identity() string {
	var b strings.Builder
	b.Grow(len(p.File) + len(p.Code) + len(p.Message) + 8)
	b.WriteString(p.File)
	b.WriteByte(0)
	b.WriteByte(byte(p.Severity))
	b.WriteString(p.Code)
	b.WriteByte(0)
	b.WriteString(p.Test)
	b.WriteByte(0)
	blur(&b, p.Message)
	return b.String()
}

// blur writes a message without what differs from run to run: separate numbers, durations, addresses, hashes, and
// folders for temporary files. "line 12" and "line 13" are alike, while the names x1 and x2 stay different.
func blur(b *strings.Builder, s string) {
	for i := 0; i < len(s); {
		if !wordy(s[i]) {
			if n := temporary(s[i:]); n > 0 {
				b.WriteString("/#")
				i += n
				continue
			}
			b.WriteByte(s[i])
			i++
			continue
		}
		j := i
		for j < len(s) && wordy(s[j]) {
			j++
		}
		switch n := uuid(s[i:]); {
		case n > 0:
			b.WriteByte('#')
			j = i + n
		case fleeting(s[i:j]), i > 0 && s[i-1] == '@' && j-i > 4 && hexadecimal(s[i:j]): // Java's Kiln@1b2c3d
			b.WriteByte('#')
		default:
			b.WriteString(s[i:j])
		}
		i = j
	}
}

func wordy(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// leastHash is the number of digits from which a hexadecimal word is taken for a hash.
const leastHash = 7

// fleeting reports whether a word is a number, a duration, an address or a hash.
func fleeting(word string) bool {
	if word[0] < '0' || word[0] > '9' {
		return len(word) >= leastHash && hexadecimal(word) && strings.ContainsAny(word, "0123456789")
	}
	switch strings.TrimLeft(word, "0123456789") {
	case "", "e", "ns", "us", "µs", "ms", "s", "m", "h", "sec", "secs", "min", "mins":
		return true
	}
	if rest, ok := strings.CutPrefix(strings.ToLower(word), "0x"); ok {
		return hexadecimal(rest)
	}
	return len(word) >= leastHash && hexadecimal(word)
}

func hexadecimal(word string) bool {
	return word != "" && strings.Trim(word, "0123456789abcdefABCDEF") == ""
}

// uuid returns the length of a UUID (RFC 9562, section 4) at the start of a text; 0 if there is none.
func uuid(s string) int {
	const length = 36
	if len(s) < length || s[8] != '-' || s[13] != '-' || s[18] != '-' || s[23] != '-' || len(s) > length && wordy(s[length]) {
		return 0
	}
	if !hexadecimal(s[:8] + s[9:13] + s[14:18] + s[19:23] + s[24:length]) {
		return 0
	}
	return length
}

// temporary returns the length of the path of a folder for temporary files at the start of a text, with the name in it,
// which is made up anew each time; 0 if there is none.
func temporary(s string) int {
	for _, dir := range [...]string{"/tmp/", "/var/tmp/", "/var/folders/", "/dev/shm/"} {
		if strings.HasPrefix(s, dir) {
			n := len(dir)
			for n < len(s) && (wordy(s[n]) || s[n] == '-' || s[n] == '.' || s[n] == '+') {
				n++
			}
			return n
		}
	}
	return 0
}
