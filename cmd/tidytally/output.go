package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"syscall"
	"text/tabwriter"

	"golang.org/x/term"

	"tidytally/core/printable"
)

// All that the commands print goes through these writers, which keep control
// sequences of a workspace or a process off the terminal. There is one exception:
// the output of a task, if standard output is not a terminal.
var (
	stdout   = &printable.Lines{To: os.Stdout}
	stderr   = &printable.Lines{To: os.Stderr}
	jsonData = printable.JSON{To: os.Stdout}
	// taskOutput takes what tasks print, and clean data in large amounts.
	taskOutput io.Writer = os.Stdout
)

// outputWriter returns where the output of tasks goes, and how its lines end: as it is, or cleaned
// for a terminal.
func outputWriter() (to io.Writer, end string) {
	if !term.IsTerminal(int(os.Stdout.Fd())) {
		return taskOutput, "\n"
	}
	if term.IsTerminal(int(os.Stdin.Fd())) {
		end = "\r\n" // the keyboard is handed on, and the terminal adds no return
	} else {
		end = "\n"
	}
	return &printable.Stream{To: os.Stdout}, end
}

// coloured reports whether what is written to a file may have colours: it is a terminal, or
// colours are forced (the flag --color, and the conventions NO_COLOR and CLICOLOR_FORCE).
func coloured(f *os.File) bool {
	switch {
	case os.Getenv("NO_COLOR") != "":
		return false
	case os.Getenv("CLICOLOR_FORCE") != "" && os.Getenv("CLICOLOR_FORCE") != "0":
		return true
	}
	return os.Getenv("TERM") != "dumb" && term.IsTerminal(int(f.Fd()))
}

func colouredData() bool   { return coloured(os.Stdout) }
func colouredErrors() bool { return coloured(os.Stderr) }

// sortedKeys returns the keys of a map in order.
func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// line prints one line: a line feed in a value does not begin another.
func line(w io.Writer, format string, args ...any) error {
	_, err := io.WriteString(w, printable.Text(fmt.Sprintf(format, args...))+"\n")
	return err
}

// table prints rows whose cells line up.
type table struct {
	*tabwriter.Writer
	to *bufio.Writer // the library writes each blank by itself
}

func newTable(w io.Writer) table {
	to := bufio.NewWriter(w)
	return table{tabwriter.NewWriter(to, 0, 8, 2, ' ', 0), to}
}

// row writes a row. flush returns the errors.
func (t table) row(cells ...string) {
	for i, c := range cells {
		if i > 0 {
			io.WriteString(t, "\t")
		}
		io.WriteString(t, printable.Text(c))
	}
	io.WriteString(t, "\n")
}

func (t table) flush() error {
	if err := t.Flush(); err != nil {
		return quietPipe(err)
	}
	return quietPipe(t.to.Flush())
}

// jsonEncoder returns an encoder of clean JSON, a value a line.
func jsonEncoder(to io.Writer) *json.Encoder {
	enc := json.NewEncoder(printable.JSON{To: to})
	enc.SetEscapeHTML(false)
	return enc
}

// printJSON prints a value as JSON, indented.
func printJSON(v any) error {
	enc := json.NewEncoder(jsonData)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return quietPipe(enc.Encode(v))
}

// quietPipe returns nil if err says that standard output was closed.
func quietPipe(err error) error {
	if errors.Is(err, syscall.EPIPE) {
		return nil
	}
	if err != nil {
		return &codeError{exitOwn, err}
	}
	return nil
}
