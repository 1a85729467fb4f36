package survey

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Expressions give what make itself says that they give.
func TestMakeFunctionsAgainstMake(t *testing.T) {
	if _, err := exec.LookPath("make"); err != nil {
		t.Skip("make is not installed")
	}
	expressions := []string{
		`$(A)`, `$A$B`, `${A} $(A)x`, `$$x $$(y)`, `$(EMPTY)`, `$(UNDEFINED)`, `$(INDIRECT)`, `$($(NAME))`, `$(A$(ONE))`,
		`$(subst ee,EE,feet on the street)`, `$(subst  ,_,a b)`, `$(subst ,x,abc)`, `$(patsubst %.c,%.o,x.c.c bar.c y)`, `$(patsubst a%b,[%],axb ab a-b)`, `$(patsubst x,y,x xx)`,
		`$(FILES:.c=.o)`, `$(FILES:%.c=obj/%.o)`, `$(FILES:x=y)`, `$(strip   a   b  )`, `$(findstring a,a b c)`, `$(findstring z,a b c)`, `$(filter %.c %.s,$(FILES))`, `$(filter-out main.c,$(FILES))`,
		`$(sort c a b a)`, `$(word 2,a b c)`, `$(word 9,a b)`, `$(wordlist 2,3,a b c d)`, `$(words a b c)`, `$(firstword a b)`, `$(lastword a b)`, `$(words )`,
		`$(dir src/foo.c hacks)`, `$(notdir src/foo.c hacks)`, `$(suffix src/foo.c src-1.0/bar.c hacks)`, `$(basename src/foo.c src-1.0/bar hacks)`, `$(addsuffix .c,foo bar)`, `$(addprefix src/,foo bar)`, `$(join a b c,.1 .2)`,
		`$(if ,yes,no)`, `$(if x,yes,no)`, `$(if  ,yes)`, `$(if $(EMPTY),yes,no)`, `$(or ,b,c)`, `$(and a,b)`, `$(and a,,b)`, `$(foreach x,1 2 3,<$(x)>)`, `$(foreach d,a b,$(foreach e,1 2,$(d)$(e)))`,
		`$(call swap,1,2)`, `$(call swap,$(call swap,a,b),c)`, `$(call missing,x)`, `$(call subst,a,b,aaa)`, `$(value INDIRECT)`, `$(origin A)`, `$(origin CC)`, `$(origin NOPE)`, `$(flavor A)`, `$(flavor SIMPLE)`, `$(flavor NOPE)`,
		`$(wildcard *.txt)`, `$(wildcard sub/*.txt nothere)`, `$(wildcard *.none)`, `$(LIST)`, `$(PLUS)`, `$(SIMPLE)`, `$(COND)`, `$(DEFINED)`, `$(MULTI)`, `$(subst $(COMMA),;,a,b)`, `$(lastword $(subst /, ,a/b/c))`, `$(strip $(NOTE))`,
		`$(notdir $(CURDIR))`, `$(words $(MAKEFILE_LIST))`, `$(if $(filter x86,$(ARCH)),is,not)`, `$(patsubst %,'%',a b)`, `$(addprefix -I,$(sort b a))`, `$(abspath .)`, `$(MAKE)`,
	}
	header := `ONE = 1
A = a
B := b
A1 = a-one
EMPTY =
NAME = A
INDIRECT = $(A)-$(LATE)
FILES = main.c x.c y.s z.h
SIMPLE := $(A) $(LATE)
LATE = late
LIST = a \
   b   \
 c
PLUS = p
PLUS += q
PLUS += $(A)
swap = $(2)-$(1)-$(0)
COMMA = ,
COND ?= default
COND ?= again
NOTE = value # a comment
ARCH = x86
define MULTI
one $(A)
endef
define DEFINED :=
two $(A)
endef
ifeq ($(A),a)
ARCH = x86
else
ARCH = arm
endif
`
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{"b.txt", "a.txt", "sub/c.txt", "sub/.hidden.txt"} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, f)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, f), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	var script strings.Builder
	script.WriteString(header)
	for _, e := range expressions {
		script.WriteString("$(info [" + e + "])\n")
	}
	script.WriteString("all: ; @true\n")
	if err := os.WriteFile(filepath.Join(dir, "Makefile"), []byte(script.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("make", "-s", "--no-print-directory")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "LC_ALL=C", "MAKEFLAGS=", "MAKELEVEL=")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	want := strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
	if len(want) != len(expressions) {
		t.Fatalf("make gave %d lines for %d expressions:\n%s", len(want), len(expressions), out)
	}
	m := &makeReader{
		file: &File{Path: "Makefile", ws: &files{root: dir}}, dir: ".", vars: map[string]makeVar{}, active: map[string]bool{}, told: map[string]bool{},
		targets: map[string]*makeTarget{}, phony: map[string]bool{}, prefix: "\t",
	}
	m.vars["CURDIR"] = makeVar{value: dir, simple: true, origin: "file"}
	m.vars["MAKEFILE_LIST"] = makeVar{value: " Makefile", simple: true, origin: "file"}
	m.read("Makefile", []byte(header))
	for i, e := range expressions {
		if got := "[" + m.expand(e) + "]"; got != want[i] {
			t.Errorf("%s gives %s, make says %s", e, got, want[i])
		}
	}
}

// Conditions are decided as cmake decides them, or left open.
func TestCMakeConditions(t *testing.T) {
	const (
		yes  = "yes"
		no   = "no"
		open = "open"
	)
	c := cmakeReader{file: &File{ws: &files{root: t.TempDir()}}, names: map[string]bool{"made": true}, functions: map[string]cmakeFunction{"fn": {}}, found: &Found{}}
	scope := &cmakeScope{vars: map[string]string{
		"ON_": "ON", "OFF_": "OFF", "NAME": "kiln", "EMPTY": "", "LIST": "a;b;c", "NOTFOUND_": "x-NOTFOUND", "NUMBER": "12", "UNKNOWN": unknown, "ZERO": "0",
	}}
	for condition, want := range map[string]string{
		"ON_": yes, "OFF_": no, "NOT OFF_": yes, "NOT NOT ON_": yes, "UNSET": no, "1": yes, "0": no, "TRUE": yes, "off": no, "EMPTY": no, "NOTFOUND_": no, "ZERO": no, "NUMBER": yes,
		"NAME STREQUAL kiln": yes, "NAME STREQUAL \"kiln\"": yes, "\"${NAME}\" STREQUAL \"other\"": no, "${NAME} STREQUAL kiln": yes, "kiln STREQUAL NAME": yes,
		"NAME MATCHES \"^ki\"": yes, "NAME MATCHES \"^x\"": no, "a IN_LIST LIST": yes, "z IN_LIST LIST": no,
		"ON_ AND OFF_": no, "ON_ OR OFF_": yes, "OFF_ AND UNKNOWN": no, "ON_ OR UNKNOWN": yes, "OFF_ OR UNKNOWN": open, "UNKNOWN": open, "NOT UNKNOWN": open, "ON_ AND UNKNOWN": open,
		"(OFF_ OR ON_) AND NOT (OFF_)": yes, "DEFINED NAME": yes, "DEFINED NOPE": no, "NOT DEFINED NOPE": yes, "TARGET made": yes, "COMMAND fn": yes,
		"WIN32": no, "MSVC OR APPLE": no, "NOT WIN32": yes, "Foo_FOUND": open, "NUMBER EQUAL 12": yes, "NUMBER GREATER 3": open, "DEFINED ENV{X}": open, "EXISTS /nothere": open,
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
	c := cmakeReader{file: &File{ws: &files{root: t.TempDir()}}, found: &Found{}}
	cmds := c.parse("CMakeLists.txt", []byte("# set(NO 1)\nSET( A \"x y\" b;c [[raw ${A}]] [=[]]]=] $ENV{HOME} d\\ e ) #[[ set(NO\n2) ]]\nmessage(\"a\nb\"\n  # inside\n  (nested) )\nset(B)"))
	var got []string
	for _, k := range cmds {
		line := k.name + ":" + itoa(k.line)
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
		c.found = &Found{}
		if cmds := c.parse("f", []byte(text)); len(cmds) != 1 || len(c.found.Faults) != 1 || c.found.Faults[0].String() != fault {
			t.Errorf("%q: %d commands, faults %v, want %s", text, len(cmds), c.found.Faults, fault)
		}
	}
}
