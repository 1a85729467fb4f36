// Package crash contains panics: a fault in one page, reader or family costs that one thing. What
// happened is written as a report into the user's folder of states, for whoever mends it.
package crash

import (
	"fmt"
	"hash/fnv"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"tidytally/core/keep"
	"tidytally/core/printable"
)

// Bounds of what is kept.
const (
	maxKeys    = 40       // last keys: more than lead to a fault
	maxReports = 20       // files in the folder: the oldest go
	maxReport  = 64 << 10 // bytes of a stack
)

var state struct {
	mu   sync.Mutex // guards the fields below
	keys []string
	// told are the reports that were written, by a hash of where the panic was: one that comes again
	// with each frame is one report.
	told   map[uint64]*Fault
	listen func(error)
}

// Listen makes f the one that is told of faults of goroutines that Go started and that nobody waits for. It is
// called from any goroutine.
func Listen(f func(error)) {
	state.mu.Lock()
	defer state.mu.Unlock()
	state.listen = f
}

// A Fault is a panic that was contained.
type Fault struct {
	What   string // what failed, as the caller of Contain named it
	Value  string // of the panic, on one line
	Report string // the file with the report; "" if it could not be written
}

// Error says what failed and where the report lies.
func (f *Fault) Error() string {
	if f.Report == "" {
		return fmt.Sprintf("a fault of Tidy Tally in %s: %s", f.What, f.Value)
	}
	return fmt.Sprintf("a fault of Tidy Tally in %s: %s; the report is %s", f.What, f.Value, f.Report)
}

// Key notes a key for reports. Text that is typed must not be among them: it may be a secret.
func Key(name string) {
	state.mu.Lock()
	defer state.mu.Unlock()
	if state.keys = append(state.keys, name); len(state.keys) > maxKeys {
		state.keys = slices.Delete(state.keys, 0, len(state.keys)-maxKeys)
	}
}

// Contain calls f. If f panics, it writes a report and returns a *Fault, in which what names the thing that
// failed.
func Contain(what string, f func()) (err error) {
	defer func() {
		if fault := Recovered(what, recover()); fault != nil {
			err = fault
		}
	}()
	f()
	return nil
}

// Go starts f in a goroutine and contains its panics. failed is called there with the *Fault; where it is nil,
// whoever listens is told.
func Go(what string, f func(), failed func(error)) {
	go func() {
		err := Contain(what, f)
		if err == nil {
			return
		}
		if failed == nil {
			state.mu.Lock()
			failed = state.listen
			state.mu.Unlock()
		}
		if failed != nil {
			failed(err)
		}
	}()
}

// Recovered makes a Fault of the value that recover returned, and writes its report; it returns nil for
// nil. It must be called by the deferred function itself, while the stack of the panic is there.
func Recovered(what string, value any) *Fault {
	if value == nil {
		return nil
	}
	stack := debug.Stack()
	h := fnv.New64a()
	for _, line := range strings.Split(string(stack), "\n") {
		if strings.HasPrefix(line, "\t") { // FILE:LINE, without the arguments of this time
			at, _, _ := strings.Cut(line, " +0x")
			h.Write([]byte(at))
		}
	}
	state.mu.Lock()
	defer state.mu.Unlock()
	if f := state.told[h.Sum64()]; f != nil {
		return f
	}
	f := &Fault{What: what, Value: withoutEnvironment(printable.Text(fmt.Sprint(value)))}
	f.Report = write(f, stack)
	slog.Debug("panic", "in", what, "report", f.Report)
	if state.told == nil {
		state.told = map[uint64]*Fault{}
	}
	state.told[h.Sum64()] = f
	return f
}

// leastHidden is the length in bytes from which a value of the environment is taken out of the text of a
// panic: shorter ones are no secrets, and would be found in any text.
const leastHidden = 4

// withoutEnvironment returns text without the values of the environment.
func withoutEnvironment(text string) string {
	for _, v := range os.Environ() {
		if _, value, _ := strings.Cut(v, "="); len(value) >= leastHidden {
			text = strings.ReplaceAll(text, value, "…")
		}
	}
	return text
}

// write writes a report and returns its path; "" if that cannot be done. The caller holds state.mu.
func write(f *Fault, stack []byte) string {
	folder, err := keep.Folder()
	if err != nil {
		return ""
	}
	folder = filepath.Join(folder, "reports")
	if os.MkdirAll(folder, 0o700) != nil {
		return ""
	}
	if old, err := os.ReadDir(folder); err == nil { // by name, which is by time
		for len(old) >= maxReports {
			_ = os.Remove(filepath.Join(folder, old[0].Name()))
			old = old[1:]
		}
	}
	version := "unknown version"
	if info, ok := debug.ReadBuildInfo(); ok {
		version = info.Main.Version
	}
	now := time.Now()
	var b strings.Builder
	fmt.Fprintf(&b, "Tidy Tally %s, %s, %s/%s\n%s\n", version, runtime.Version(), runtime.GOOS, runtime.GOARCH, now.Format(time.RFC3339))
	fmt.Fprintf(&b, "what: %s\npanic: %s\nkeys: %s\n\n%s", f.What, f.Value, strings.Join(state.keys, " "), stack[:min(len(stack), maxReport)])
	file, err := os.CreateTemp(folder, now.Format("20060102-150405-")+"*.txt") // mode 0600
	if err != nil {
		return ""
	}
	defer file.Close()
	if _, err := file.WriteString(b.String()); err != nil {
		return ""
	}
	return file.Name()
}
