package hand

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// here gives the test a folder of sockets of its own, and one that is short: the path of a socket has a limit.
func here(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/tmp", "hand-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	t.Setenv("XDG_RUNTIME_DIR", dir)
	return dir
}

func within[T any](t *testing.T, what string, c <-chan T) (v T) {
	t.Helper()
	select {
	case v = <-c:
	case <-time.After(30 * time.Second):
		t.Fatalf("%s does not come", what)
	}
	return v
}

// Files go to the host, and places to the editors that show them, until either side closes.
func TestBothSides(t *testing.T) {
	dir := here(t)
	if _, err := Join("/w", nil, nil); err == nil {
		t.Fatal("joined where none listens")
	}
	took := make(chan string, 10)
	h, err := Listen("/w", func(file string) { took <- file })
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Listen("/w", nil); !errors.Is(err, ErrTaken) {
		t.Errorf("a second host: %v", err)
	}
	other, err := Listen("/other", func(string) {})
	if err != nil {
		t.Fatalf("a host of another workspace: %v", err)
	}
	other.Close()
	shown, gone := make(chan Message, 10), make(chan bool, 2)
	quiet, err := Join("/w", func(m Message) { shown <- m }, func() { gone <- true })
	if err != nil {
		t.Fatal(err)
	}
	shows, err := Join("/w", func(m Message) { shown <- m }, func() { gone <- true })
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range []struct {
		*Editor
		file  string
		shows bool
	}{{quiet, "/w/a.c", false}, {shows, "/w/sub/../b.c", true}} {
		if err := e.Took(e.file, e.shows); err != nil {
			t.Fatal(err)
		}
		if got, want := within(t, "the file", took), filepath.Clean(e.file); got != want {
			t.Errorf("took %s, want %s", got, want)
		}
	}
	if err := quiet.Took("relative.c", false); err != nil { // nobody's file
		t.Fatal(err)
	}
	if n := h.Show("/w/c.c", 3, 7); n != 1 {
		t.Errorf("%d editors show places", n)
	}
	if m := within(t, "the place", shown); m.Show != "/w/c.c" || m.Line != 3 || m.Column != 7 || m.File != "" {
		t.Errorf("shown: %+v", m)
	}
	quiet.Close()
	within(t, "the end of one", gone)
	h.Close()
	within(t, "the end of the other", gone)
	if len(took)+len(shown) > 0 {
		t.Errorf("more was told: %d, %d", len(took), len(shown))
	}
	if left, _ := os.ReadDir(filepath.Join(dir, "tidytally")); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
	if again, err := Listen("/w", func(string) {}); err != nil {
		t.Errorf("after the end: %v", err)
	} else {
		again.Close()
	}
}

// A folder that others may enter, or that is a link, is refused; a socket of a killed program is in nobody's way.
func TestFoldersOfOthers(t *testing.T) {
	dir := filepath.Join(here(t), "tidytally")
	err := os.Mkdir(dir, 0o755)
	if err == nil {
		err = os.Chmod(dir, 0o755) // whatever the umask
	}
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Listen("/w", nil); err == nil || !strings.Contains(err.Error(), "is not a folder of yours alone") {
		t.Errorf("others may enter it: %v", err)
	}
	if err := os.Remove(dir); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(t.TempDir(), dir); err != nil {
		t.Fatal(err)
	}
	if _, err := Listen("/w", nil); err == nil {
		t.Error("a link is followed")
	}
	if err := os.Remove(dir); err != nil {
		t.Fatal(err)
	}
	path, err := socket("/w", true)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	h, err := Listen("/w", func(string) {})
	if err != nil {
		t.Fatal(err)
	}
	defer h.Close()
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 || info.Mode()&os.ModeSocket == 0 {
		t.Errorf("the socket: %v, %v", info, err)
	}
}

// A client that says something else is let go, and an editor that does not read holds nothing up.
func TestUnkindEditors(t *testing.T) {
	here(t)
	took := make(chan string, 10)
	h, err := Listen("/w", func(file string) { took <- file })
	if err != nil {
		t.Fatal(err)
	}
	defer h.Close()
	dial := func() net.Conn {
		t.Helper()
		conn, err := net.Dial("unix", h.path)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { conn.Close() })
		return conn
	}
	for _, said := range []string{"no JSON\n", "[1]\n", `{"file": 7}` + "\n", `{"file": "/` + strings.Repeat("x", 2*maxLine) + `"}` + "\n"} {
		conn := dial()
		_, _ = conn.Write([]byte(said)) // it may be let go in the midst of it
		_ = conn.SetReadDeadline(time.Now().Add(30 * time.Second))
		if n, err := conn.Read(make([]byte, 1)); n != 0 || errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("after %.20q: %d bytes, %v", said, n, err)
		}
	}
	deaf := dial()
	fmt.Fprintln(deaf, `{"file": "/w/a.c", "shows": true}`)
	within(t, "the file", took)
	shown := make(chan int, 1)
	go func() {
		n := 0
		for range 3000 { // more than a socket holds
			if n = h.Show("/w/"+strings.Repeat("long/", 50)+"a.c", 1, 1); n == 0 {
				break
			}
		}
		shown <- n
	}()
	if n := within(t, "an end", shown); n != 0 {
		t.Errorf("%d editors took all", n)
	}
}
