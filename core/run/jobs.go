package run

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"tidytally/core/task"
)

// How the command of a task takes part in the budget of jobs. A tool that was asked for
// parallel jobs without a number takes them from the budget; one that was given a number keeps
// to that.
type jobsKind int

const (
	noJobs    jobsKind = iota // it runs one job at a time, or it is not known
	makeJobs                  // a client of the jobserver by MAKEFLAGS (GNU make manual, "Sharing Job Slots")
	cargoJobs                 // by CARGO_MAKEFLAGS
	ninjaJobs                 // by MAKEFLAGS and a fifo since 1.13; older ones by -j
	ownJobs                   // a number of its own
)

// SharedJobs is what JobsOf says of a task that takes its jobs from the budget.
const SharedJobs = "shared"

// JobsOf says how a task takes part in the budget of jobs: SharedJobs, why it does not, or ""
// for one that runs no jobs side by side.
func JobsOf(t *task.Task) string {
	command, kind := pooled(t.Command)
	inScript := false
	if kind == noJobs && t.Script != "" && t.Source != "make" {
		command, kind = pooled(task.Command{Shell: t.Script})
		inScript = true
	}
	switch {
	case kind == noJobs:
		return ""
	case t.LongRunning:
		return "outside of the budget of jobs: it is long-running"
	case t.At != "":
		return "outside of the budget of jobs: it runs at " + t.At
	case t.Via != "":
		return "outside of the budget of jobs: it runs via " + t.Via
	case t.Login:
		return "outside of the budget of jobs: it runs in a login shell"
	case kind == ownJobs:
		return "outside of the budget of jobs: " + command.String() + " gives a number of its own"
	case inScript && kind != cargoJobs:
		return "outside of the budget of jobs: the -j is in the script"
	}
	return SharedJobs
}

// cargoVerbs are the subcommands of cargo that build.
var cargoVerbs = []string{"build", "b", "check", "c", "test", "t", "run", "r", "bench", "clippy", "doc", "d", "rustc", "rustdoc", "install", "nextest"}

// pooled returns a command as it runs when its jobs come from the budget: GNU make takes them
// only where its -j is in MAKEFLAGS and not on the command line. Of one with a number of its
// own, it returns that command alone.
func pooled(c task.Command) (task.Command, jobsKind) {
	if len(c.Argv) > 0 {
		keep, kind := jobWords(c.Argv)
		if kind == noJobs || kind == ownJobs {
			return c, kind
		}
		var argv []string
		for i, w := range c.Argv {
			if keep[i] != "" {
				w = keep[i]
			}
			if keep[i] != dropped {
				argv = append(argv, w)
			}
		}
		return task.Command{Argv: argv}, kind
	}
	kind, own := noJobs, ""
	var edits []edit
	for _, call := range callsOf(c.Shell) {
		var words []string
		for _, w := range call.Args {
			words = append(words, w.Lit()) // "" if it is more than a word
		}
		keep, k := jobWords(words)
		switch {
		case k == noJobs:
		case k == ownJobs:
			kind, own = ownJobs, strings.Join(words, " ")
		case kind != ownJobs:
			kind = k
			for i, w := range call.Args {
				if keep[i] != "" {
					edits = append(edits, edit{int(w.Pos().Offset()), int(w.End().Offset()), strings.TrimSuffix(keep[i], dropped)})
				}
			}
		}
	}
	if kind == ownJobs {
		return task.Command{Shell: own}, kind
	}
	return task.Command{Shell: edited(c.Shell, edits)}, kind
}

// withShare returns a command in which each ninja has an option more.
func withShare(c task.Command, option string) task.Command {
	if len(c.Argv) > 0 {
		return task.Command{Argv: slices.Concat(c.Argv[:1], []string{option}, c.Argv[1:])}
	}
	var edits []edit
	for _, call := range callsOf(c.Shell) {
		if len(call.Args) > 0 {
			if _, kind := jobWords([]string{call.Args[0].Lit()}); kind == ninjaJobs {
				at := int(call.Args[0].End().Offset())
				edits = append(edits, edit{at, at, " " + option})
			}
		}
	}
	return task.Command{Shell: edited(c.Shell, edits)}
}

// callsOf returns the simple commands of a shell's text, in its order; none if it cannot be read.
func callsOf(text string) (calls []*syntax.CallExpr) {
	file, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Parse(strings.NewReader(text), "")
	if err != nil {
		return nil
	}
	syntax.Walk(file, func(n syntax.Node) bool {
		if call, ok := n.(*syntax.CallExpr); ok {
			calls = append(calls, call)
		}
		return true
	})
	return calls
}

// edit replaces a part of a text, given in bytes.
type edit struct {
	from, to int
	with     string
}

// edited returns a text with edits, which stand in its order. A word that is dropped takes the
// blanks before it along.
func edited(text string, edits []edit) string {
	for _, x := range slices.Backward(edits) {
		before := text[:x.from]
		if x.with == "" {
			before = strings.TrimRight(before, " ")
		}
		text = before + x.with + text[x.to:]
	}
	return text
}

// dropped stands for a word that falls away.
const dropped = "\x00"

// jobWords finds out from the words of a simple command how it takes part. keep holds, for
// each word, what stands instead of it; "" for the word itself.
func jobWords(words []string) (keep []string, kind jobsKind) {
	keep = make([]string, len(words))
	if len(words) == 0 {
		return keep, noJobs
	}
	args := words[1:]
	switch path.Base(words[0]) {
	case "make", "gmake":
		return keep, parallel(args, keep[1:], "CfIoWE", []string{"--jobs"}, makeJobs, noJobs)
	case "cmake":
		if len(args) == 0 || args[0] != "--build" {
			return keep, noJobs
		}
		if i := slices.Index(args, "--"); i >= 0 {
			args = args[:i]
		}
		return keep, parallel(args, keep[1:], "t", []string{"--jobs", "--parallel"}, makeJobs, noJobs)
	case "cargo":
		if len(args) == 0 || !slices.Contains(cargoVerbs, args[0]) {
			return keep, noJobs
		}
		return keep, parallel(args, keep[1:], "pFZ", []string{"--jobs"}, cargoJobs, cargoJobs)
	case "ninja", "ninja-build", "samu":
		return keep, parallel(args, keep[1:], "CfktdlW", nil, ninjaJobs, ninjaJobs)
	}
	return keep, noJobs
}

// parallel looks for the option that asks for parallel jobs. valued are the letters of other
// options whose value is the next word; long are the long forms of the option. without is
// the kind of a command that does not have it.
func parallel(args, keep []string, valued string, long []string, with, without jobsKind) jobsKind {
	kind := without
	number := func(i int) bool {
		if i >= len(args) {
			return false
		}
		_, err := strconv.Atoi(args[i])
		return err == nil
	}
	for i := 0; i < len(args); i++ {
		w := args[i]
		name, _, hasValue := strings.Cut(w, "=")
		switch {
		case w == "--":
			return kind
		case slices.Contains(long, name):
			if hasValue || number(i+1) {
				return ownJobs
			}
			kind, keep[i] = with, dropped
		case strings.HasPrefix(w, "--") || !strings.HasPrefix(w, "-") || len(w) == 1:
		default:
			at := strings.IndexAny(w[1:], "j"+valued)
			switch {
			case at < 0:
			case w[1+at] != 'j': // its value is the rest of the word, or the next one
				if 1+at == len(w)-1 {
					i++
				}
			case 1+at < len(w)-1 || number(i+1):
				return ownJobs
			default:
				kind, keep[i] = with, w[:1+at]
				if keep[i] == "-" {
					keep[i] = dropped
				}
			}
		}
	}
	return kind
}
