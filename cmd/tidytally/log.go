package main

import (
	"fmt"
	"log/slog"
	"os"
)

// logVariable names the file that is logged to where --log names none.
const logVariable = "TIDYTALLY_LOG"

// logTo appends what the program does to a file, as text for people and tools (log/slog): what is surveyed, run, asked and what fails, with the
// numbers of runs and requests. Arguments, output and values of the environment are not in it. Without a file nothing is logged.
func logTo(file string) error {
	if file == "" {
		file = os.Getenv(logVariable)
	}
	if file == "" {
		slog.SetDefault(slog.New(slog.DiscardHandler))
		return nil
	}
	if info, err := os.Stat(file); err == nil && !info.Mode().IsRegular() { // to open a pipe would wait
		return usageError("--log %s: it is no regular file", file)
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return usageError("--log %s: %v", file, pathCause(err))
	}
	slog.SetDefault(slog.New(slog.NewTextHandler(f, &slog.HandlerOptions{Level: slog.LevelDebug})).With("pid", fmt.Sprint(os.Getpid())))
	slog.Debug("started", "version", version(), "command", commandName())
	return nil
}

// commandName is the command of the call, without its arguments: they may hold secrets.
func commandName() string {
	for _, a := range os.Args[1:] {
		if len(a) > 0 && a[0] != '-' {
			return a
		}
	}
	return ""
}
