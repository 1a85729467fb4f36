package tui

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"tidytally/core/task"
)

// editorForms are the arguments with which common editors open a file at a
// line and a column.
var editorForms = map[string][]string{
	"vi":       {"+{line}", "{file}"},
	"vim":      {"+call cursor({line},{column})", "{file}"},
	"nvim":     {"+call cursor({line},{column})", "{file}"},
	"view":     {"+{line}", "{file}"},
	"nano":     {"+{line},{column}", "{file}"},
	"emacs":    {"+{line}:{column}", "{file}"},
	"mg":       {"+{line}", "{file}"},
	"jed":      {"-g", "{line}", "{file}"},
	"joe":      {"+{line}", "{file}"},
	"kak":      {"+{line}:{column}", "{file}"},
	"hx":       {"{file}:{line}:{column}"},
	"micro":    {"{file}:{line}:{column}"},
	"ne":       {"+{line},{column}", "{file}"},
	"ed":       {"{file}"},
	"gedit":    {"+{line}:{column}", "{file}"},
	"code":     {"--goto", "{file}:{line}:{column}"},
	"subl":     {"{file}:{line}:{column}"},
	"zed":      {"{file}:{line}:{column}"},
	"mousepad": {"--line={line}", "--column={column}", "{file}"},
}

// editorVariable names the setting for editors that are not in the table: a
// command line with {file}, {line} and {column}.
const editorVariable = "TIDYTALLY_EDITOR"

// editorCommand makes the command that opens the user's editor at a place.
func editorCommand(file string, line, column int) (*exec.Cmd, error) {
	line, column = max(1, line), max(1, column)
	fill := strings.NewReplacer("{file}", file, "{line}", strconv.Itoa(line), "{column}", strconv.Itoa(column))
	setting, variable := "", ""
	for _, v := range []string{editorVariable, "VISUAL", "EDITOR"} {
		if setting = os.Getenv(v); setting != "" {
			variable = v
			break
		}
	}
	if setting == "" {
		for _, name := range []string{"sensible-editor", "vi", "nano"} {
			if _, err := exec.LookPath(name); err == nil {
				setting, variable = name, "the path"
				break
			}
		}
		if setting == "" {
			return nil, fmt.Errorf("no editor: set VISUAL or EDITOR, such as EDITOR=nano")
		}
	}
	words, err := task.SplitWords(setting)
	if err != nil || len(words) == 0 {
		return nil, fmt.Errorf("%s=%s: %v", variable, setting, err)
	}
	if _, err := exec.LookPath(words[0]); err != nil {
		return nil, fmt.Errorf("%s from %s: not found; set VISUAL or EDITOR to an editor on the path", words[0], variable)
	}
	args := words[1:]
	if strings.Contains(setting, "{file}") {
		for i := range args {
			args[i] = fill.Replace(args[i])
		}
		return exec.Command(words[0], args...), nil
	}
	form, ok := editorForms[filepath.Base(words[0])]
	if !ok {
		form = []string{"+{line}", "{file}"}
		if filepath.Base(words[0]) == "sensible-editor" {
			form = []string{"{file}"}
		}
	}
	for _, f := range form {
		args = append(args, fill.Replace(f))
	}
	return exec.Command(words[0], args...), nil
}
