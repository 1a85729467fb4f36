package main

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/creack/pty"
	"golang.org/x/term"

	"tidytally/core/session"
)

// ctrl+c between two commands, when there is no terminal that could make a signal of it, ends the job all
// the same.
func TestInterruptBetweenCommands(t *testing.T) {
	root := t.TempDir()
	if err := os.WriteFile(filepath.Join(root, "tidytally.toml"), []byte("[task.wait]\nrun = \"sleep 600\"\nrerun_on = [\"*.c\"]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s, err := session.Open(root, session.Options{NoHistory: true})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	s.Touch()
	snap, err := s.Settle(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	job, err := s.Start(snap.Survey.Tasks, snap.Survey.Tasks[0], nil) // not on a terminal
	if err != nil {
		t.Fatal(err)
	}
	person, ours, err := pty.Open()
	if err != nil {
		t.Fatal(err)
	}
	defer person.Close()
	defer ours.Close()
	wake, stop, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	k := &keyboard{in: int(ours.Fd()), stop: stop, done: make(chan struct{}), job: job}
	if _, err := term.MakeRaw(k.in); err != nil {
		t.Fatal(err)
	}
	for reading(job) == nil {
		time.Sleep(time.Millisecond)
	}
	go k.read(wake)
	defer k.release()
	if _, err := person.Write([]byte{ctrlC}); err != nil {
		t.Fatal(err)
	}
	select {
	case <-job.Done():
	case <-time.After(time.Minute):
		t.Error("it goes on")
		s.StopAll()
	}
}
