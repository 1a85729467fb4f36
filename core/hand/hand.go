// Package hand lets editors and Tidy Tally tell each other, on one machine, which file is in hand: over a socket
// of the user's own, one JSON object a line.
package hand

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"tidytally/core/crash"
)

// Message is what one side tells the other.
type Message struct {
	// File is, from an editor, the file that was opened or saved, absolute.
	File string `json:"file,omitempty"`
	// Shows says that the editor shows places when it is asked.
	Shows bool `json:"shows,omitempty"`
	// Show is, to an editor, the file that it should show, absolute; Line and Column count from 1, 0 for none.
	Show   string `json:"show,omitempty"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
}

// maxLine bounds a message in bytes.
const maxLine = 64 << 10

// socket returns the path of the socket of a workspace, in a folder that only the user may enter; make makes
// that if it is not there.
func socket(root string, make bool) (string, error) {
	dir := os.Getenv("XDG_RUNTIME_DIR")
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(os.TempDir(), fmt.Sprintf("tidytally-%d", os.Getuid()))
	} else {
		dir = filepath.Join(dir, "tidytally")
	}
	if make {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return "", err
		}
	}
	info, err := os.Lstat(dir)
	if err != nil {
		return "", err
	}
	if st, ok := info.Sys().(*syscall.Stat_t); !info.IsDir() || !ok || int(st.Uid) != os.Getuid() || info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("%s is not a folder of yours alone", dir)
	}
	sum := sha256.Sum256([]byte(root))
	return filepath.Join(dir, hex.EncodeToString(sum[:8])+".sock"), nil // such a path has at most 100 bytes or so
}

// Host is the side of Tidy Tally.
type Host struct {
	listener net.Listener
	path     string
	lock     *os.File

	mu      sync.Mutex        // guards the field below
	editors map[net.Conn]bool // and whether they show places
}

// ErrTaken is returned if another Tidy Tally is open on the workspace.
var ErrTaken = errors.New("another Tidy Tally is open on the workspace")

// Listen waits for editors. took is called, from any goroutine, with each file that comes into hand.
func Listen(root string, took func(file string)) (*Host, error) {
	path, err := socket(root, true)
	if err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return nil, ErrTaken
	}
	_ = os.Remove(path) // of a program that was killed: the lock says that none listens
	listener, err := net.Listen("unix", path)
	if err == nil {
		err = os.Chmod(path, 0o600)
	}
	if err != nil {
		lock.Close()
		return nil, err
	}
	h := &Host{listener: listener, path: path, lock: lock, editors: map[net.Conn]bool{}}
	crash.Go("the connection to editors", func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			h.mu.Lock()
			h.editors[conn] = false
			h.mu.Unlock()
			crash.Go("the connection to editors", func() {
				each(conn, func(m Message) {
					h.mu.Lock()
					h.editors[conn] = m.Shows
					h.mu.Unlock()
					if filepath.IsAbs(m.File) {
						took(filepath.Clean(m.File))
					}
				})
				h.mu.Lock()
				delete(h.editors, conn)
				h.mu.Unlock()
				conn.Close()
			}, nil)
		}
	}, nil)
	return h, nil
}

// showsWithin is how long an editor may take a place: one that does not read holds up nobody.
const showsWithin = 200 * time.Millisecond

// Show asks the editors that can to show a place. It returns how many there are.
func (h *Host) Show(file string, line, column int) (n int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for conn, shows := range h.editors {
		_ = conn.SetWriteDeadline(time.Now().Add(showsWithin)) // closed: it is told by what follows
		if shows && json.NewEncoder(conn).Encode(Message{Show: file, Line: line, Column: column}) == nil {
			n++
		}
	}
	return n
}

// Close ends all connections and removes the socket, and its folder with the last one.
func (h *Host) Close() {
	h.listener.Close() // that removes the socket
	h.mu.Lock()
	for conn := range h.editors {
		conn.Close()
	}
	h.mu.Unlock()
	_ = os.Remove(h.lock.Name()) // whoever waits for it gets a new one
	h.lock.Close()
	_ = os.Remove(filepath.Dir(h.path)) // if nothing else is in it
}

// Editor is the side of an editor.
type Editor struct{ conn net.Conn }

// Join connects to the Tidy Tally that is open on a workspace; it fails if there is none. show is called, from
// another goroutine, with each place that it wants to be shown; gone once the connection has ended.
func Join(root string, show func(Message), gone func()) (*Editor, error) {
	path, err := socket(root, false)
	if err != nil {
		return nil, err
	}
	conn, err := net.Dial("unix", path)
	if err != nil {
		return nil, err
	}
	crash.Go("the connection to editors", func() {
		each(conn, func(m Message) {
			if filepath.IsAbs(m.Show) {
				show(m)
			}
		})
		conn.Close()
		gone()
	}, nil)
	return &Editor{conn}, nil
}

// Took tells which file is in hand now, absolute, and whether the editor shows places.
func (e *Editor) Took(file string, shows bool) error {
	return json.NewEncoder(e.conn).Encode(Message{File: file, Shows: shows})
}

// Close ends the connection.
func (e *Editor) Close() { e.conn.Close() }

// each calls f with each message of a connection until it ends or says something else.
func each(conn net.Conn, f func(Message)) {
	lines := bufio.NewScanner(conn)
	lines.Buffer(nil, maxLine)
	for lines.Scan() {
		var m Message
		if json.Unmarshal(lines.Bytes(), &m) != nil {
			return
		}
		f(m)
	}
}
