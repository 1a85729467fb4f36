package task

import "strings"

// longRunningWords are words in the names of tasks that stay up, and kindWords those
// that tell a task's kind. The first known word of a name decides.
var (
	longRunningWords = words("watch watching dev develop serve server start:dev live preview storybook")
	kindWords        = map[string]Kind{}
)

func init() {
	for kind, list := range map[Kind]string{
		Build: "build compile all bundle dist package pack assemble link make jar image release prod production transpile generate gen codegen",
		Check: "lint check vet format fmt typecheck types tsc style analyze analyse verify validate audit prettier eslint",
		Test:  "test tests spec e2e unit integration coverage bench benchmark selftest",
		Run:   "run start exec flash deploy install",
		Serve: "serve server dev develop preview watch live",
		Clean: "clean distclean clobber mostlyclean purge reset sweep uninstall",
	} {
		for w := range words(list) {
			kindWords[w] = kind
		}
	}
}

func words(list string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(list) {
		m[w] = true
	}
	return m
}

// KindOf guesses the kind of a task from its name.
func KindOf(name string) Kind {
	for _, w := range strings.FieldsFunc(strings.ToLower(name), nameBreak) {
		if k, ok := kindWords[w]; ok {
			return k
		}
	}
	return Other
}

// LongRunningOf guesses from its name, and the command it runs, whether a task
// stays up.
func LongRunningOf(name, command string) bool {
	for _, w := range strings.FieldsFunc(strings.ToLower(name), nameBreak) {
		if longRunningWords[w] {
			return true
		}
	}
	for _, w := range strings.Fields(command) {
		if w == "--watch" || w == "-w" && strings.HasPrefix(command, "tsc") {
			return true
		}
	}
	return false
}

func nameBreak(r rune) bool { return strings.ContainsRune(":-_./ ", r) }
