package makefile

import (
	"testing"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// A kind follows from what a recipe does, and only then from the name; what compiles does not stay up.
func TestKindsByRecipe(t *testing.T) {
	const text = `QUIET = @printf ' LINK' 1>&2;
LD_ = $(QUIET)$(CC) $(LDFLAGS)
TOOL = arm-none-eabi-
.PHONY: run dev test check watch all clean tidy lint docs deploy serve
oven-server: a.o
	$(LD_) -o $@ $^
oven-benchmark: b.o ; $(CXX) -o $@ $^
firmware: x.o
	$(TOOL)gcc-12 -o $@ x.o && $(TOOL)objcopy -O binary $@ $@.bin
libdev.a: a.o
	rm -f $@
	$(AR) rc $@ $^
all: oven-server
run: oven-server
	./oven-server --port 7777
dev: oven-server
	@echo starting
	oven-server
test: oven-benchmark
	./oven-benchmark
check: ; pytest -q
unit: ; CC=gcc go test ./...
watch: ; while true; do sleep 1; done
clean tidy:
	-rm -f *.o
lint: ; golangci-lint run
docs: ; sphinx-build . out
deploy: oven-server ; scp oven-server host:
serve: ; python3 -m http.server
dist/app.js: ; npx esbuild src/app.ts
.PHONY: app
app: ; go build -o app ./cmd/app
`
	found := Read(declare.NewWorkspace(t.TempDir(), nil).File("Makefile", []byte(text)))
	got := map[string]*task.Task{}
	for _, k := range found.Tasks {
		got[k.Name] = k
	}
	for name, want := range map[string]struct {
		kind  task.Kind
		stays bool
		said  bool
	}{
		"oven-server": {task.Build, false, true}, "oven-benchmark": {task.Build, false, true}, "firmware": {task.Build, false, true}, "libdev.a": {task.Build, false, true},
		"all": {task.Build, false, false}, "run": {task.Run, false, false}, "dev": {task.Serve, true, false}, "test": {task.Test, false, false}, "check": {task.Test, false, true}, "unit": {task.Test, false, true},
		"watch": {task.Serve, true, false}, "clean": {task.Clean, false, true}, "tidy": {task.Clean, false, true}, "lint": {task.Check, false, true}, "docs": {task.Other, false, false}, "deploy": {task.Run, false, false},
		"serve": {task.Serve, true, false}, "app": {task.Build, false, true},
	} {
		k := got[name]
		if k == nil {
			t.Errorf("no %s", name)
			continue
		}
		if o := k.Origin("kind"); k.Kind != want.kind || k.LongRunning != want.stays || (o.Note != "") != want.said {
			t.Errorf("%s: %s, stays up %v, %q", name, k.Kind, k.LongRunning, o.Note)
		}
	}
}
