package editorfile

import (
	"path"
	"regexp"
	"regexp/syntax"
	"slices"
	"strconv"
	"strings"

	"tidytally/core/datatext"
	"tidytally/core/task"
	"tidytally/internal/lazyregexp"
)

// placeholders turns the placeholders of an editor into ours. What is not known
// becomes one that a value must be given to.
type placeholders struct {
	root    string
	own     map[string]bool // variables that the entry itself sets
	unknown []string
	asked   []string
}

// spelled matches placeholders as they are written: ${word:argument}, ${word},
// $word, {word}, %word%.
var spelled = lazyregexp.New(`\$\{([A-Za-z][\w.-]*)(?::([^}]*))?\}|\$\(([A-Za-z][\w-]*)\)|\$([A-Za-z_]\w*)|\{\{?\s?([A-Za-z][\w.-]*)(?::([^}\s][^}]*))?\s?\}?\}|%([A-Za-z][\w-]*)%`)

// text translates the placeholders of a text. In a shell's text, the shell's own
// variables stay.
func (p *placeholders) text(s string, shell bool) string {
	if !strings.ContainsAny(s, "${}%") {
		return s
	}
	var b strings.Builder
	at := 0
	for _, m := range spelled().FindAllStringSubmatchIndex(s, -1) {
		b.WriteString(literal(s[at:m[0]], shell))
		at = m[1]
		part := func(i int) string {
			if m[2*i] < 0 {
				return ""
			}
			return s[m[2*i]:m[2*i+1]]
		}
		if m[8] >= 0 && closedByDollar(s[m[1]:]) { // $word$
			m[2], m[3], m[8] = m[8], m[9], -1
			at++
		}
		whole := s[m[0]:m[1]]
		word, argument := part(1), part(2)
		sure := word != "" // in ${…}: a shell's variable, or a placeholder
		switch {
		case part(3) != "":
			word = part(3)
		case part(4) != "":
			word = part(4)
		case part(5) != "":
			word, argument, sure = part(5), part(6), true
		case part(7) != "":
			word, sure = part(7), true
		}
		b.WriteString(p.one(whole, word, argument, sure, shell))
	}
	b.WriteString(literal(s[at:], shell))
	return b.String()
}

// closedByDollar reports whether a text begins with the dollar that ends $word$, rather
// than with one that begins the next variable.
func closedByDollar(rest string) bool {
	if !strings.HasPrefix(rest, "$") {
		return false
	}
	if len(rest) == 1 {
		return true
	}
	c := rest[1]
	return !(c == '_' || c == '{' || c == '(' || c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z')
}

// ask returns a placeholder that a value must be given to.
func (p *placeholders) ask(name string) string {
	if !slices.Contains(p.unknown, name) {
		p.unknown = append(p.unknown, name)
	}
	return "{ask." + name + "}"
}

// argumentWords are words of placeholders that take an argument of their own.
var argumentWords = setOf("env environment setting settings config configuration option input ask prompt question query")

// literal keeps braces that are no placeholder's from being taken for one.
func literal(s string, shell bool) string {
	if shell {
		return s
	}
	return strings.NewReplacer("{", "{{", "}", "}}").Replace(s)
}

func (p *placeholders) one(whole, word, argument string, sure, shell bool) string {
	upper := word == strings.ToUpper(word)
	words := wordsOf(word)
	if upper && (p.own[word] || !slices.ContainsFunc(words, func(w string) bool {
		return w == "file" || w == "workspace" || w == "project"
	})) {
		// A variable of the environment.
		if whole[0] == '$' && shell {
			return whole
		}
		return "{env." + word + "}"
	}
	if ours := p.ours(words, argument); ours != "" {
		return ours
	}
	if task.KnownPlaceholder(word) && argument == "" && whole[0] == '{' {
		return "{" + word + "}"
	}
	if !sure && shell || strings.HasPrefix(whole, "$(") {
		return whole // a variable of the command's own, or a command in it
	}
	if shell && strings.HasPrefix(whole, "${") && argument != "" && strings.ContainsAny(argument[:1], "-+=?") {
		return whole // the shell's own: ${name:-text}
	}
	return p.ask(strings.Join(append(words, wordsOf(argument)...), "-"))
}

// partWords are the words that say which part of a path is meant: ${file:dir}.
var partWords = setOf("dir dirname directory folder stem base basename name no without sans extension ext suffix extname relative rel path absolute abs full line row")

// ours finds the placeholder that some words mean; "" if they, or the argument, are not
// understood.
func (p *placeholders) ours(words []string, argument string) string {
	if argument != "" && !slices.ContainsFunc(words, func(w string) bool { return argumentWords[w] }) {
		// The argument is more of the same words, or nothing that is understood.
		more := wordsOf(argument)
		if len(more) == 0 || slices.ContainsFunc(more, func(w string) bool { return !partWords[w] }) || strings.ContainsAny(argument, "/\\${}") {
			return ""
		}
		words, argument = append(slices.Clip(words), more...), ""
	}
	has := func(any ...string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return slices.Contains(any, w) })
	}
	dir := has("dir", "dirname", "directory", "folder")
	named := strings.Join(wordsOf(argument), "-")
	switch {
	case has("env", "environment") && argument != "":
		return "{env." + argument + "}"
	case has("env", "environment") && len(words) > 1:
		return "{env." + strings.ToUpper(strings.Join(words[1:], "_")) + "}"
	case has("setting", "settings", "config", "configuration", "option") && argument != "":
		return "{set." + strings.Join(strings.FieldsFunc(argument, func(r rune) bool { return r == ':' }), ".") + "}"
	case has("input", "ask", "prompt", "question", "query"):
		if named == "" {
			named = "value"
		}
		if !slices.Contains(p.asked, named) {
			p.asked = append(p.asked, named)
		}
		return "{ask." + named + "}"
	case has("workspace", "project", "root", "solution") && has("name", "basename") && !has("file"):
		return literal(path.Base(p.root), false)
	case has("workspace", "project", "root", "solution", "top"):
		return "{root}"
	case has("separator", "sep"):
		return "/"
	case has("home"):
		return "{env.HOME}"
	case has("column", "selected", "selection", "text", "word"):
		return ""
	case has("line", "row") || len(words) == 1 && words[0] == "linenumber":
		return "{line}"
	case has("file", "filename", "document", "buffer", "filepath", "filedir", "filedirname", "filebase"):
		noExtension := has("stem", "filebase") || has("no", "without", "sans") && has("extension", "ext", "suffix")
		switch {
		case noExtension:
			return "{file.stem}"
		case has("filedir", "filedirname") || dir:
			return "{file.dir}"
		case has("extname"):
			return ".{file.ext}"
		case has("extension", "ext", "suffix"):
			return "{file.ext}"
		case has("relative", "rel"):
			return "{file.rel}"
		case has("base", "basename", "name", "filename"):
			return "{file.base}"
		case len(words) == 1 || has("path", "filepath", "full", "absolute", "abs", "current", "active", "the"):
			return "{file}"
		}
	case len(words) == 1 && (has("cwd") || dir), has("working", "current") && (dir || has("cwd")):
		return "{dir}"
	}
	return ""
}

// commandFrom makes the command of an entry. A list is run as it is; a text goes to
// the shell, unless it is one plain word with separate arguments.
func commandFrom(e *editorEntry, p *placeholders) task.Command {
	n := e.command
	var argv []string
	if n.Kind == datatext.List {
		lines := strings.HasSuffix(joined(e.commandKey), "s") && len(n.Items) > 0 || joined(e.commandKey) == "script"
		for _, item := range n.Items {
			lines = lines || item.Kind == datatext.List
		}
		if first := valueText(n.Items[0]); lines || strings.Contains(first, " ") && len(n.Items) > 1 {
			// Several command lines, one after the other.
			var all []string
			for _, item := range n.Items {
				if item.Kind == datatext.List {
					var words []string
					for _, w := range item.Items {
						words = append(words, quoteAround(p.text(valueText(w), false)))
					}
					all = append(all, strings.Join(words, " "))
					continue
				}
				all = append(all, p.text(valueText(item), true))
			}
			return task.Command{Shell: strings.Join(all, " && ")}
		}
		for _, item := range n.Items {
			argv = append(argv, p.text(valueText(item), false))
		}
	}
	var args []string
	raw := "" // arguments that are one text
	if e.args != nil {
		switch {
		case e.args.Kind == datatext.List:
			for _, item := range e.args.Items {
				args = append(args, p.text(valueText(item), false))
			}
		case e.args.Scalar():
			raw = " " + p.text(e.args.Text, true)
		}
	}
	if argv != nil {
		if raw != "" {
			return task.Command{Shell: quoteEach(argv) + raw}
		}
		return task.Command{Argv: append(argv, args...)}
	}
	throughShell := e.shell != nil && e.shell.Text == "true"
	if !throughShell && raw == "" && (len(args) > 0 || e.shell != nil && e.shell.Text == "false") && !strings.ContainsAny(n.Text, " \t\n|&;<>()`\"'*?~=") {
		return task.Command{Argv: append([]string{p.text(n.Text, false)}, args...)}
	}
	shell := p.text(strings.TrimSpace(n.Text), true) + raw
	if len(args) > 0 {
		shell += " " + quoteEach(args)
	}
	if e.shell != nil && e.shell.Kind == datatext.Text && e.shell.Text != "" {
		return task.Command{Argv: append(strings.Fields(e.shell.Text), "-c", shell)}
	}
	return task.Command{Shell: shell}
}

// valueText is the text of a scalar, or of a table that has it as its value.
func valueText(n *datatext.Node) string {
	if n.Kind == datatext.Table {
		for _, x := range n.Entries {
			if joined(x.Key) == "value" || joined(x.Key) == datatext.TextKey {
				return x.Value.Text
			}
		}
	}
	return n.Text
}

func quoteEach(args []string) string {
	out := make([]string, len(args))
	for i, a := range args {
		out[i] = quoteAround(a)
	}
	return strings.Join(out, " ")
}

// quoteAround quotes an argument for the shell, except its placeholders, which are
// quoted when they get their values.
func quoteAround(arg string) string {
	var b strings.Builder
	at := 0
	for i := 0; i < len(arg); i++ {
		if arg[i] != '{' {
			continue
		}
		if i+1 < len(arg) && arg[i+1] == '{' {
			i++
			continue
		}
		end := strings.IndexByte(arg[i:], '}')
		if end < 0 || !task.PlaceholderName(arg[i+1:i+end]) {
			continue
		}
		if i > at {
			b.WriteString(task.QuoteArgument(arg[at:i]))
		}
		b.WriteString(arg[i : i+end+1])
		i += end
		at = i + 1
	}
	if at < len(arg) || arg == "" {
		b.WriteString(task.QuoteArgument(arg[at:]))
	}
	return b.String()
}

// namedGroups returns the groups of an expression the names of a problem's fields:
// those that it has, those whose numbers are given, else the usual order.
func namedGroups(expression string, groups map[string]int) string {
	expression = strings.ReplaceAll(strings.ReplaceAll(expression, "(?<", "(?P<"), "(?P<=", "(?<=")
	re, err := regexp.Compile(expression)
	if err != nil {
		return expression
	}
	for _, name := range re.SubexpNames() {
		if name != "" {
			return renameGroups(expression)
		}
	}
	if len(groups) == 0 {
		groups = guessGroups(expression)
	}
	var b strings.Builder
	number := 0
	class := false
	for i := 0; i < len(expression); i++ {
		c := expression[i]
		switch {
		case c == '\\' && i+1 < len(expression):
			b.WriteByte(c)
			i++
			c = expression[i]
		case c == '[':
			class = true
		case c == ']':
			class = false
		case c == '(' && !class && !strings.HasPrefix(expression[i:], "(?"):
			number++
			b.WriteByte(c)
			for field, k := range groups {
				if k == number {
					b.WriteString("?P<" + field + ">")
					break
				}
			}
			continue
		}
		b.WriteByte(c)
	}
	return b.String()
}

// guessGroups returns which fields of a problem the groups of an expression are,
// judged by what they can match.
func guessGroups(expression string) map[string]int {
	groups := map[string]int{}
	parsed, err := syntax.Parse(expression, syntax.Perl)
	if err != nil {
		return groups
	}
	var captures []*regexp.Regexp
	var walk func(*syntax.Regexp)
	walk = func(re *syntax.Regexp) {
		if re.Op == syntax.OpCapture {
			one, err := regexp.Compile("^(?:" + re.Sub[0].String() + ")$")
			if err != nil {
				one = regexp.MustCompile("^$")
			}
			captures = append(captures, one)
		}
		for _, sub := range re.Sub {
			walk(sub)
		}
	}
	walk(parsed)
	put := func(number int, fields ...string) {
		for _, f := range fields {
			if groups[f] == 0 {
				groups[f] = number
				return
			}
		}
	}
	for i, re := range captures {
		number, word, path, text := re.MatchString("12"), re.MatchString("error"), re.MatchString("src/a-b.c"), re.MatchString("it is odd, see: x")
		switch {
		case number && !word:
			put(i+1, "line", "column")
		case word && !path:
			put(i+1, "severity", "code")
		case path && (!text || i < len(captures)-1 && groups["file"] == 0):
			put(i+1, "file", "code")
		default:
			put(i+1, "message", "file")
		}
	}
	return groups
}

var groupName = lazyregexp.New(`\(\?P<(\w+)>`)

// renameGroups returns groups that are named in other words the names of fields.
func renameGroups(expression string) string {
	used := map[string]int{}
	return groupName().ReplaceAllStringFunc(expression, func(m string) string {
		name := groupName().FindStringSubmatch(m)[1]
		field := problemFields[joined(name)]
		if field == "" {
			field = problemFields[lastWord(name)]
		}
		if field == "" {
			return m
		}
		if used[field]++; used[field] > 1 {
			field += strconv.Itoa(used[field])
		}
		return "(?P<" + field + ">"
	})
}
