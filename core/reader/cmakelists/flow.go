package cmakelists

import (
	"strconv"
	"strings"

	"tidytally/core/reader/declare"
)

// How commands follow each other: conditions, loops, functions, blocks.

const (
	cmakeMaxCommands = 200_000
	cmakeMaxDepth    = 60
	// maxRounds bounds the rounds of a while.
	maxRounds = 10_000
)

// outcome is how a list of commands ended.
type outcome int

const (
	atEnd outcome = iota
	returned
	broken    // break()
	continued // continue()
	failed    // message(FATAL_ERROR)
)

type cmakeFunction struct {
	params []string
	body   []cmakeCommand
	file   string
	macro  bool
}

// run follows commands.
func (c *cmakeReader) run(cmds []cmakeCommand, s *scope, depth int) outcome {
	if depth > cmakeMaxDepth {
		return returned
	}
	conditions := len(c.conditions)
	defer func() { c.conditions = c.conditions[:conditions] }()
	for i := 0; i < len(cmds); i++ {
		if c.steps++; c.steps > cmakeMaxCommands {
			if !c.limit {
				c.limit = true
				c.faultOfLimit(s.file, cmds[i].line, "more than %d commands; targets may be missing", cmakeMaxCommands)
			}
			return returned
		}
		cmd := &cmds[i]
		end := i
		out := atEnd
		switch cmd.name {
		case "if":
			end, out = c.branch(cmds, i, s, depth)
		case "foreach":
			end = c.end(cmds, i, "foreach", "endforeach")
			out = c.loop(cmd, cmds[i+1:end], s, depth)
		case "while":
			end = c.end(cmds, i, "while", "endwhile")
			out = c.while(cmd, cmds[i+1:end], s, depth)
		case "block":
			end = c.end(cmds, i, "block", "endblock")
			out = c.block(s.words(cmd.args), cmds[i+1:end], s, depth)
		case "function", "macro":
			end = c.end(cmds, i, cmd.name, "end"+cmd.name)
			if w := s.words(cmd.args); len(w) > 0 {
				c.functions[strings.ToLower(w[0])] = cmakeFunction{w[1:], cmds[i+1 : end], s.file, cmd.name == "macro"}
			}
		case "return":
			if w := s.words(cmd.args); len(w) > 1 && w[0] == "PROPAGATE" {
				for _, name := range w[1:] {
					s.toParent(name, s.value(name))
				}
			}
			return returned
		case "break":
			return broken
		case "continue":
			return continued
		default:
			out = c.command(cmd, s, depth)
		}
		if out != atEnd {
			return out
		}
		i = end
	}
	return atEnd
}

// end finds the command that closes the block opened at i. Looking for it
// counts as work, so that blocks in blocks stay within the limit.
func (c *cmakeReader) end(cmds []cmakeCommand, i int, open, end string) int {
	defer func(from int) { c.steps += from / 32 }(len(cmds) - i)
	depth := 0
	for k := i; k < len(cmds); k++ {
		switch cmds[k].name {
		case open:
			depth++
		case end:
			if depth--; depth == 0 {
				return k
			}
		}
	}
	return len(cmds)
}

// branch follows an if block and returns the index of its endif. Where a condition cannot be decided, each side is followed
// from the same state, and what they leave is joined. A side that ends in an error is one that nobody takes.
func (c *cmakeReader) branch(cmds []cmakeCommand, i int, s *scope, depth int) (end int, out outcome) {
	end = c.end(cmds, i, "if", "endif")
	open := false // an earlier side may have been taken
	var before state
	var ends []state
	whole, left := false, ""
	side := func(body []cmakeCommand, condition string) {
		if !open {
			before, open = s.state(), true
		} else {
			s.take(before)
		}
		c.conditions = append(c.conditions, condition)
		o := c.run(body, s, depth+1)
		c.conditions = c.conditions[:len(c.conditions)-1]
		now := s.take(before)
		switch {
		case o == failed:
		case o != atEnd:
			left = condition
		default:
			ends = append(ends, now)
		}
	}
	start := i
	for k, level := i+1, 1; k <= end && !whole; k++ {
		name := "endif"
		if k < len(cmds) {
			name = cmds[k].name
		}
		if k < end {
			if name == "if" {
				level++
			} else if name == "endif" {
				level--
			}
			if level != 1 || name != "elseif" && name != "else" {
				continue
			}
		}
		cond, yes, known := cmds[start], true, true
		if cond.name != "else" {
			yes, known = c.condition(cond.args, s)
		}
		body := cmds[start+1 : k]
		switch {
		case known && !yes:
		case known && !open:
			return end, c.run(body, s, depth+1)
		default:
			side(body, cond.condition(cmds[i]))
			whole = known
		}
		start = k
	}
	if !open {
		return end, atEnd
	}
	if !whole {
		ends = append(ends, before)
	}
	if len(ends) == 0 { // each side leaves
		s.take(before)
		if left == "" {
			return end, failed
		}
		return end, returned
	}
	s.join(ends)
	if left != "" { // the rest is for those who did not leave
		c.conditions = append(c.conditions, "not "+left)
	}
	return end, atEnd
}

// condition returns the condition of a branch as it is written; first is the if of the
// block.
func (cmd cmakeCommand) condition(first cmakeCommand) string {
	if cmd.name == "else" {
		return "the else of " + first.condition(first)
	}
	words := make([]string, len(cmd.args))
	for i, a := range cmd.args {
		words[i] = a.text
	}
	return cmd.name + "(" + strings.Join(words, " ") + ")"
}

// loop follows a foreach.
func (c *cmakeReader) loop(cmd *cmakeCommand, body []cmakeCommand, s *scope, depth int) outcome {
	w := s.words(cmd.args)
	if len(w) == 0 {
		return atEnd
	}
	names, values, rounds := w[:1], [][]string{w[1:]}, len(w)-1
	in := 1
	for in < len(w) && w[in] != "IN" {
		in++
	}
	switch {
	case len(w) > 1 && w[1] == "RANGE":
		values = [][]string{countUp(w[2:])}
		rounds = len(values[0])
	case in < len(w) && in+1 < len(w) && w[in+1] == "ZIP_LISTS":
		names, values, rounds = w[:in], nil, 0
		for _, list := range w[in+2:] {
			v := s.list(list)
			values, rounds = append(values, v), max(rounds, len(v))
		}
		if len(names) == 1 && len(values) > 1 { // item_0, item_1
			one := names[0]
			names = nil
			for i := range values {
				names = append(names, one+"_"+strconv.Itoa(i))
			}
		}
	case in == 1 && len(w) > 1:
		var list []string
		mode := ""
		for _, x := range w[2:] {
			switch {
			case x == "LISTS" || x == "ITEMS":
				mode = x
			case mode == "LISTS":
				list = append(list, s.list(x)...)
			default:
				list = append(list, x)
			}
		}
		values, rounds = [][]string{list}, len(list)
	}
	c.steps += rounds / 8 // to make the list was work too
	defer func() {
		for _, name := range names {
			delete(s.vars, name)
		}
	}()
	for i := range rounds {
		for k, name := range names {
			v := ""
			if k < len(values) && i < len(values[k]) {
				v = values[k][i]
			}
			s.set(name, v)
		}
		if out, ends := afterRound(c.run(body, s, depth+1)); ends {
			return out
		}
	}
	return atEnd
}

// afterRound reports whether a loop ends after a round, and how.
func afterRound(out outcome) (of outcome, ends bool) {
	switch out {
	case atEnd, continued:
		return atEnd, false
	case broken:
		return atEnd, true
	}
	return out, true
}

// countUp returns the numbers of foreach(… RANGE [start] stop [step]).
func countUp(w []string) (out []string) {
	if unknown(w...) {
		return []string{declare.Unknown}
	}
	n := [3]int{0, 0, 1}
	switch len(w) {
	case 0:
		return nil
	case 1:
		n[1], _ = strconv.Atoi(w[0])
	default:
		for i := range min(3, len(w)) {
			n[i], _ = strconv.Atoi(w[i])
		}
	}
	if n[2] <= 0 {
		n[2] = 1
	}
	for k := n[0]; k <= n[1] && len(out) < maxRounds; k += n[2] {
		out = append(out, strconv.Itoa(k))
	}
	return out
}

// while follows a while. Where it is not known whether another round follows, one is read as if it may.
func (c *cmakeReader) while(cmd *cmakeCommand, body []cmakeCommand, s *scope, depth int) outcome {
	for range maxRounds {
		yes, known := c.condition(cmd.args, s)
		if known && !yes || c.limit {
			return atEnd
		}
		if !known {
			before := s.state()
			c.conditions = append(c.conditions, cmd.condition(*cmd))
			c.run(body, s, depth+1)
			c.conditions = c.conditions[:len(c.conditions)-1]
			s.join([]state{before, s.take(before)})
			return atEnd
		}
		if out, ends := afterRound(c.run(body, s, depth+1)); ends {
			return out
		}
	}
	return atEnd
}

// block follows a block().
func (c *cmakeReader) block(w []string, body []cmakeCommand, s *scope, depth int) outcome {
	inner := s
	var propagate []string
	for i, x := range w {
		if x == "PROPAGATE" {
			propagate = w[i+1:]
			break
		}
	}
	if len(w) < 2 || w[0] != "SCOPE_FOR" || w[1] == "VARIABLES" || len(w) > 2 && w[2] == "VARIABLES" {
		inner = s.inner(s.dir, s.file)
	}
	out := c.run(body, inner, depth+1)
	if inner != s {
		for _, name := range propagate {
			s.set(name, inner.value(name))
		}
	}
	return out
}

// call runs a function or macro of the project with its arguments.
func (c *cmakeReader) call(name string, f cmakeFunction, args []string, s *scope, depth int) outcome {
	own := map[string]string{"ARGC": strconv.Itoa(len(args)), "ARGV": strings.Join(args, ";"), "ARGN": strings.Join(args[min(len(f.params), len(args)):], ";")}
	for i, p := range f.params {
		own[p] = ""
		if i < len(args) {
			own[p] = args[i]
		}
	}
	for i, a := range args {
		own["ARGV"+strconv.Itoa(i)] = a
	}
	if f.macro {
		file := s.file
		out := c.run(c.replaced(f.body, own), s, depth+1)
		s.file = file
		return out // a return in it is one of its caller
	}
	inner := s.inner(s.dir, f.file)
	inner.vars = own
	own["CMAKE_CURRENT_FUNCTION"] = name
	own["CMAKE_CURRENT_FUNCTION_LIST_FILE"], own["CMAKE_CURRENT_FUNCTION_LIST_DIR"] = c.abs(f.file), dirOf(c.abs(f.file))
	if c.run(f.body, inner, depth+1) == failed {
		return failed
	}
	return atEnd
}

// replaced returns the body of a macro with its parameters as text, as they are no variables (cmake-commands(7), macro).
func (c *cmakeReader) replaced(body []cmakeCommand, own map[string]string) []cmakeCommand {
	out := make([]cmakeCommand, len(body))
	for i, cmd := range body {
		out[i] = cmd
		for k, a := range cmd.args {
			if a.raw || strings.IndexByte(a.text, '$') < 0 {
				continue
			}
			text := a.text
			for name, v := range own {
				if ref := "${" + name + "}"; strings.Contains(text, ref) {
					text = strings.ReplaceAll(text, ref, strings.ReplaceAll(v, `\`, `\\`))
				}
			}
			if text == a.text {
				continue
			}
			if len(out[i].args) > 0 && &out[i].args[0] == &cmd.args[0] {
				out[i].args = append([]cmakeArg(nil), cmd.args...)
			}
			out[i].args[k].text = text
		}
		c.steps += len(cmd.args) / 64
	}
	return out
}

// toParent sets a variable in the scope around. Here it stays as it is: a scope begins as a copy of the one around.
func (s *scope) toParent(name, value string) {
	if s.parent == nil {
		return
	}
	if _, own := s.vars[name]; !own {
		if v, set := s.get(name); set {
			s.vars[name] = v
		} else {
			s.vars[name] = notSet
		}
	}
	s.parent.set(name, value)
}
