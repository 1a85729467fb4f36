package makefile

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/core/reader/declare"
	"tidytally/internal/testtree"
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
	dir := testtree.Folder(t)
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
		file: declare.NewWorkspace(dir, nil).File("Makefile", nil), dir: ".", vars: map[string]makeVar{}, active: map[string]bool{}, told: map[string]bool{},
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
