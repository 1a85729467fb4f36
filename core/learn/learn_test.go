package learn

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"github.com/cespare/xxhash/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"tidytally/core/trace"
	"tidytally/internal/testtree"
)

// set is the setting of a run of a command.
func set(command string) Setting { return Setting{Command: HashOf(command), Dir: "/w"} }

// Each way in which a path can be another one is told; what says nothing is not.
func TestWhatDiffers(t *testing.T) {
	root := testtree.Folder(t)
	const odd = "odd \n\x01 name"
	testtree.Fill(t, root, map[string]string{"a.c": "a", odd: "o", "list/one": "", "out": "made", "Makefile": "m"})
	if err := syscall.Mkfifo(filepath.Join(root, "pipe"), 0o600); err != nil {
		t.Fatal(err)
	}
	at := func(name string) string { return filepath.Join(root, name) }
	long := time.Now().Add(-time.Hour)
	for _, name := range []string{"a.c", odd, "out", "Makefile"} {
		if err := os.Chtimes(at(name), long, long); err != nil {
			t.Fatal(err)
		}
	}
	tr := func() *trace.Trace {
		return &trace.Trace{
			Read: map[string]trace.Use{
				at("a.c"): trace.Content, at(odd): trace.Content, at("Makefile"): trace.Content | trace.Times, at("pipe"): trace.Content, at("list"): trace.Content,
				"/proc/self/status": trace.Content, "/etc/passwd": trace.Content,
			},
			Missing: map[string]bool{at("a.h"): true}, Listed: map[string]bool{at("list"): true}, Wrote: map[string]bool{at("out"): true}, Removed: map[string]bool{at("tmp"): true},
			Executed: map[string]bool{"/bin/sh": true},
		}
	}
	known := Of(tr(), root, set("make"), time.Now().Add(-time.Minute), os.Getenv)
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(at(name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		edit, back func()
		want       string
	}{
		{func() {}, func() {}, ""},
		{func() { write("a.c", "b") }, func() { write("a.c", "a") }, "a.c changed"},
		{func() { write(odd, "other") }, func() { write(odd, "o") }, odd + " changed"},
		{func() { write("a.h", "") }, func() { os.Remove(at("a.h")) }, "a.h is new"},
		{func() { write("tmp", "") }, func() { os.Remove(at("tmp")) }, "tmp is new"},
		{func() { write("list/two", "") }, func() { os.Remove(at("list/two")) }, "files in list came or went"},
		{func() { os.Remove(at("out")) }, func() { write("out", "made") }, "out, which it made, is gone"},
		{func() { write("out", "edit") }, func() { write("out", "made") }, "out, which it made, has changed"},
		{func() { os.Chtimes(at("Makefile"), time.Now(), time.Now()) }, func() { os.Chtimes(at("Makefile"), long, long) }, "Makefile has another time"},
		{func() { write("else", "") }, func() {}, ""},
	} {
		c.edit()
		reasons, unknown := known.Differs(root, set("make"))
		if got := strings.Join(reasons, "; "); got != c.want || unknown != "" {
			t.Errorf("%q, %s; want %q", got, unknown, c.want)
		}
		c.back()
	}
	if reasons, _ := known.Differs(root, set("make -j2")); strings.Join(reasons, "") != "the command is another one" {
		t.Errorf("another command: %v", reasons)
	}
	for name, change := range map[string]func(*trace.Trace){
		"it used the network":                func(tr *trace.Trace) { tr.Network = true },
		"outside of the workspace":           func(tr *trace.Trace) { tr.Wrote["/etc/passwd"] = true },
		"it is not known what it read: torn": func(tr *trace.Trace) { tr.Cut = "torn" },
	} {
		tr := tr()
		change(tr)
		if _, unknown := Of(tr, root, set("make"), time.Now(), os.Getenv).Differs(root, set("make")); !strings.Contains(unknown, name) {
			t.Errorf("%s: %q", name, unknown)
		}
	}
	write("a.c", "changed while it ran")
	if reasons, _ := Of(tr(), root, set("make"), time.Now().Add(-time.Minute), os.Getenv).Differs(root, set("make")); !strings.HasPrefix(strings.Join(reasons, ""), "a.c changed while it ran") {
		t.Errorf("a source that changed meanwhile: %q", reasons)
	}
}

// A digest cannot be checked against guessed values without the user's key.
func TestDigestsNeedTheKey(t *testing.T) {
	if again := HashOf("hunter22"); again != HashOf("hunter22") || HashOf("hunter22") == HashOf("hunter23") {
		t.Error("a digest does not tell one text from another")
	}
	mac := hmac.New(sha256.New, make([]byte, 32))
	mac.Write([]byte("hunter22"))
	if h := HashOf("hunter22"); h == xxhash.Sum64String("hunter22") || h == binary.BigEndian.Uint64(mac.Sum(nil)) {
		t.Error("a digest is made without the key")
	}
}
