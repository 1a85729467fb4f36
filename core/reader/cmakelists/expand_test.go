package cmakelists

import (
	"strconv"
	"strings"
	"testing"

	"tidytally/core/reader/declare"
)

// Conditions are decided as cmake decides them, or left open.
func TestCMakeConditions(t *testing.T) {
	const (
		yes  = "yes"
		no   = "no"
		open = "open"
	)
	c := newReader(declare.NewWorkspace(t.TempDir(), nil).File("", nil), ".", &declare.Found{})
	c.names["made"], c.functions["fn"] = true, cmakeFunction{}
	scope := &scope{reader: c, vars: map[string]string{
		"ON_": "ON", "OFF_": "OFF", "NAME": "kiln", "EMPTY": "", "LIST": "a;b;c", "NOTFOUND_": "x-NOTFOUND", "NUMBER": "12", "UNKNOWN": declare.Unknown, "ZERO": "0",
	}}
	for condition, want := range map[string]string{
		"ON_": yes, "OFF_": no, "NOT OFF_": yes, "NOT NOT ON_": yes, "UNSET": no, "1": yes, "0": no, "TRUE": yes, "off": no, "EMPTY": no, "NOTFOUND_": no, "ZERO": no, "NUMBER": yes,
		"NAME STREQUAL kiln": yes, "NAME STREQUAL \"kiln\"": yes, "\"${NAME}\" STREQUAL \"other\"": no, "${NAME} STREQUAL kiln": yes, "kiln STREQUAL NAME": yes,
		"NAME MATCHES \"^ki\"": yes, "NAME MATCHES \"^x\"": no, "a IN_LIST LIST": yes, "z IN_LIST LIST": no,
		"ON_ AND OFF_": no, "ON_ OR OFF_": yes, "OFF_ AND UNKNOWN": no, "ON_ OR UNKNOWN": yes, "OFF_ OR UNKNOWN": open, "UNKNOWN": open, "NOT UNKNOWN": open, "ON_ AND UNKNOWN": open,
		"(OFF_ OR ON_) AND NOT (OFF_)": yes, "DEFINED NAME": yes, "DEFINED NOPE": no, "NOT DEFINED NOPE": yes, "TARGET made": yes, "COMMAND fn": yes,
		"WIN32": no, "MSVC OR APPLE": no, "NOT WIN32": yes, "Foo_FOUND": open, "NUMBER EQUAL 12": yes, "NUMBER GREATER 3": yes, "NUMBER LESS 3": no, "3.25.1 VERSION_GREATER 3.13": yes, "3.9 VERSION_GREATER_EQUAL 3.13": no, "1.2 VERSION_EQUAL 1.2.0": yes, "DEFINED ENV{X}": no, "DEFINED ENV{HOME}": open, "NAME STRLESS zebra": yes, "/a/b PATH_EQUAL /a//b": yes, "x MATCHES \"[{]\"": no, "\"a{2}\" MATCHES \"a{2}\"": yes, "NAME MATCHES \"^(k)(.)\"": yes, "\"\" STREQUAL \"\"": yes, "\"NAME\"": no, "12x": no, "-1": yes, "EXISTS /nothere": open,
		"POLICY CMP0048": yes,
	} {
		cmds := c.parse("x", []byte("if("+condition+")"))
		if len(cmds) != 1 {
			t.Fatalf("%s: %v", condition, cmds)
		}
		result, known := c.condition(cmds[0].args, scope)
		got := open
		if known {
			got = no
			if result {
				got = yes
			}
		}
		if got != want {
			t.Errorf("if(%s): %s, want %s", condition, got, want)
		}
	}
}

func TestCMakeText(t *testing.T) {
	c := newReader(declare.NewWorkspace(t.TempDir(), nil).File("", nil), ".", &declare.Found{})
	cmds := c.parse("CMakeLists.txt", []byte("# set(NO 1)\nSET( A \"x y\" b;c [[raw ${A}]] [=[]]]=] $ENV{HOME} d\\ e ) #[[ set(NO\n2) ]]\nmessage(\"a\nb\"\n  # inside\n  (nested) )\nset(B)"))
	var got []string
	for _, k := range cmds {
		line := k.name + ":" + strconv.Itoa(k.line)
		for _, a := range k.args {
			line += "|" + a.text
		}
		got = append(got, line)
	}
	want := []string{"set:2|A|x y|b;c|raw ${A}|]]|$ENV{HOME}|d\\ e", "message:4|a\nb|(|nested|)", "set:8|B"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	for text, fault := range map[string]string{
		"set(A 1)\nset(B": "f:2: the bracket behind set is not closed; the commands before were read",
		"set(A 1)\n)\n":   "f:2: a command should stand here; the commands before were read",
		"set(A 1)\nset B": "f:2: a bracket should stand behind set; the commands before were read",
	} {
		c.found = &declare.Found{}
		if cmds := c.parse("f", []byte(text)); len(cmds) != 1 || len(c.found.Faults) != 1 || c.found.Faults[0].String() != fault {
			t.Errorf("%q: %d commands, faults %v, want %s", text, len(cmds), c.found.Faults, fault)
		}
	}
}
