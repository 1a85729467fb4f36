package task

// FilterFields are the fields that tasks can be filtered by.
var FilterFields = []string{"kind", "in", "from", "name", "runs", "is"}

// Field returns a task's texts for a filter's field.
func (t *Task) Field(name string) ([]string, bool) {
	switch name {
	case "kind":
		return []string{string(t.Kind)}, true
	case "in":
		return []string{t.Dir, t.Folder()}, true
	case "from":
		return []string{t.Source, t.File}, true
	case "name":
		return []string{t.Name}, true
	case "runs":
		return []string{t.Command.String(), t.Script}, true
	case "is":
		is := []string{string(t.Manner)}
		for word, so := range map[string]bool{"long-running": t.LongRunning, "hidden": t.Hidden, "pinned": t.Pin, "default": t.Default} {
			if so {
				is = append(is, word)
			}
		}
		for _, o := range t.Origins {
			if o.Manner == Adjusted {
				is = append(is, string(Adjusted))
				break
			}
		}
		return is, true
	}
	return nil, false
}

// IsWords are the words of the filter's field is: of the declaration, and what is known of runs.
var IsWords = []string{"declared", "inferred", "adjusted", "long-running", "hidden", "pinned", "default", "stale", "fresh", "running", "failing"}

// Known is a task with further words for the filter's field is.
type Known struct {
	*Task
	Is func(*Task) []string
}

// Field returns the task's texts for a filter's field.
func (k Known) Field(name string) ([]string, bool) {
	texts, ok := k.Task.Field(name)
	if name == "is" && k.Is != nil {
		texts = append(texts, k.Is(k.Task)...)
	}
	return texts, ok
}

// Title is the text that a filter's words are searched in first.
func (t *Task) Title() string { return t.Name }

// Rest are the other texts of a task that a word is looked for in.
func (t *Task) Rest() []string { return []string{t.File, t.About, t.Script, t.Command.Shell} }
