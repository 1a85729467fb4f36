package task

import "tidytally/internal/lazyregexp"

// KeyPattern matches the keys that a tally file may give to a task (ECMA-262 and RE2 agree on
// it): those that no page has for itself, now or later.
const KeyPattern = `^(?:(?:(?:shift|ctrl|alt)\+)?[fF](?:[1-9]|1[0-9]|2[0-4])|alt\+[A-Za-z0-9])$`

var fitKey = lazyregexp.New(KeyPattern)

// FitKey reports whether a tally file may give the key to a task: "f7", "shift+f7", "alt+m".
func FitKey(name string) bool { return fitKey().MatchString(name) }
