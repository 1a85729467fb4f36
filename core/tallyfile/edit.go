package tallyfile

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/google/renameio/v2"

	"tidytally/core/datatext"
	"tidytally/core/files"
)

// Editing in place: one value of a tally file changes, and every other byte stays,
// comments and layout included.

// A Table names a table of a tally file by the keys that lead to it: {"task", "build"}.
type Table []string

// String returns the header of the table, without the brackets.
func (t Table) String() string {
	parts := make([]string, len(t))
	for i, key := range t {
		parts[i] = bareOrQuoted(key)
	}
	return strings.Join(parts, ".")
}

// workspaceTable is where most of what the pages write stands.
var workspaceTable = Table{"workspace"}

// Put sets a key of [workspace] to a text. It adds the table and the key if they are
// missing. It fails if the text around is not valid TOML.
func Put(data []byte, key, value string) ([]byte, error) {
	return Set(data, workspaceTable, key, quoteTOML(value))
}

// Set sets a key of a table to a value, which is given as TOML.
func Set(data []byte, table Table, key, value string) ([]byte, error) {
	return edit(data, table, key, func(*datatext.Node, []byte) ([]byte, error) { return []byte(value), nil }, value)
}

// Append adds a text to the list under a key of [workspace], unless it is in it.
func Append(data []byte, key, item string) ([]byte, error) {
	return AppendTo(data, workspaceTable, key, item)
}

// AppendTo adds a text to the list under a key of a table, unless it is in it.
func AppendTo(data []byte, table Table, key, item string) ([]byte, error) {
	return edit(data, table, key, func(old *datatext.Node, span []byte) ([]byte, error) {
		if old.Kind != datatext.List {
			return nil, fmt.Errorf("%s.%s is %s where a list should stand", table, key, old.Kind)
		}
		if slices.Contains(old.Strs(), item) {
			return span, nil
		}
		return appendItem(span, quoteTOML(item)), nil
	}, "["+quoteTOML(item)+"]")
}

// Remove removes a text from the list of a key of [workspace], and with the last text the key.
func Remove(data []byte, key, item string) ([]byte, error) {
	list := datatext.ReadTOML(data, func(int, int, string) {}).Get(workspaceTable[0]).Get(key)
	if list == nil || !slices.Contains(list.Strs(), item) {
		return data, nil
	}
	if len(list.Items) == 1 {
		return Unset(data, workspaceTable, key)
	}
	return edit(data, workspaceTable, key, func(old *datatext.Node, span []byte) ([]byte, error) {
		return removeItem(span, item), nil
	}, "")
}

// Unset removes a key with its value from a table, and the table with its last key, unless a comment
// stands in it.
func Unset(data []byte, table Table, key string) ([]byte, error) {
	in := at(datatext.ReadTOML(data, func(int, int, string) {}), table)
	e := entryOf(in, key)
	if e == nil {
		return data, nil
	}
	start := offsetOf(data, e.Line, 1)
	value := start + bytes.IndexByte(data[start:], '=') + 1
	value += len(data[value:]) - len(bytes.TrimLeft(data[value:], " \t"))
	end := lineEnd(data, value+valueLength(data[value:]))
	out := slices.Concat(data[:start], data[end:])
	if header := headerEnd(data, table); len(in.Entries) == 1 && header >= 0 {
		from := bytes.LastIndexByte(data[:header-1], '\n') + 1
		rest := data[end:]
		if next := bytes.Index(append([]byte("\n"), rest...), []byte("\n[")); next >= 0 {
			rest = rest[:next]
		}
		if len(bytes.TrimSpace(data[header:start])) == 0 && len(bytes.TrimSpace(rest)) == 0 {
			before := bytes.TrimRight(data[:from], " \t\r\n")
			out = slices.Clone(before)
			if len(before) > 0 {
				out = append(out, newlineOf(data)...)
			}
			out = append(out, data[end:]...)
		}
	}
	if err := sameButFor(data, out, table, key, false); err != nil {
		return nil, err
	}
	return out, nil
}

// Add adds tables, given as TOML, at the end of the file. It fails if one of them is there already.
func Add(data []byte, tables string) ([]byte, error) {
	newline := newlineOf(data)
	block := strings.ReplaceAll(strings.TrimRight(tables, "\n")+"\n", "\n", newline)
	out := bytes.TrimRight(data, " \t\r\n")
	if len(out) > 0 {
		out = append(slices.Clone(out), newline+newline...)
	}
	out = append(out, block...)
	faults := [2]int{}
	values := [2]string{}
	for i, text := range [][]byte{data, out} {
		values[i] = flat(datatext.ReadTOML(text, func(int, int, string) { faults[i]++ }), nil, "")
	}
	if faults[1] > faults[0] || !containsAll(values[1], values[0]) {
		return nil, fmt.Errorf("the file has such a table already, or is not whole: choose another name, or write it by hand")
	}
	return out, nil
}

// containsAll reports whether each line of one text is a line of the other.
func containsAll(text, lines string) bool {
	has := map[string]bool{}
	for l := range strings.Lines(text) {
		has[l] = true
	}
	for l := range strings.Lines(lines) {
		if !has[l] {
			return false
		}
	}
	return true
}

func newlineOf(data []byte) string {
	if bytes.Contains(data, []byte("\r\n")) {
		return "\r\n"
	}
	return "\n"
}

// lineEnd returns the offset behind the line that holds an offset.
func lineEnd(data []byte, at int) int {
	if n := bytes.IndexByte(data[at:], '\n'); n >= 0 {
		return at + n + 1
	}
	return len(data)
}

// at returns a table; nil if it is not there.
func at(root *datatext.Node, table Table) *datatext.Node {
	for _, key := range table {
		root = root.Get(key)
	}
	return root
}

// isInline reports whether a table, or one that it is in, is written without a header.
func isInline(data []byte, root *datatext.Node, table Table) bool {
	for _, key := range table {
		e := entryOf(root, key)
		if e == nil {
			return false
		}
		if !bytes.HasPrefix(bytes.TrimSpace(data[offsetOf(data, e.Line, 1):]), []byte("[")) {
			return true
		}
		root = e.Value
	}
	return false
}

// edit replaces the text of one value, or adds the key with a text of its own.
func edit(data []byte, table Table, key string, change func(old *datatext.Node, span []byte) ([]byte, error), fresh string) ([]byte, error) {
	root := datatext.ReadTOML(data, func(int, int, string) {})
	newline := newlineOf(data)
	var out []byte
	if e := entryOf(at(root, table), key); e != nil {
		v := e.Value
		start := offsetOf(data, e.Line, e.Column)
		start += bytes.IndexByte(data[start:], '=') + 1
		start += len(data[start:]) - len(bytes.TrimLeft(data[start:], " \t"))
		end := start + valueLength(data[start:])
		replaced, err := change(v, data[start:end])
		if err != nil {
			return nil, err
		}
		out = slices.Concat(data[:start], replaced, data[end:])
	} else if header := headerEnd(data, table); header >= 0 {
		at := lastKeyEnd(data, header)
		lead := ""
		if at > 0 && data[at-1] != '\n' {
			lead = newline
		}
		out = slices.Concat(data[:at], []byte(lead+key+" = "+fresh+newline), data[at:])
	} else if isInline(data, root, table) {
		return nil, fmt.Errorf("%s is written in one line with others: write %s into it by hand", table, key)
	} else {
		lead := ""
		if n := len(data); n > 0 && data[n-1] != '\n' {
			lead = newline
		}
		if len(bytes.TrimSpace(data)) > 0 {
			lead += newline
		}
		out = append(slices.Clone(data), lead+"["+table.String()+"]"+newline+key+" = "+fresh+newline...)
	}
	if bytes.Equal(out, data) {
		return data, nil
	}
	if err := sameButFor(data, out, table, key, true); err != nil {
		return nil, err
	}
	return out, nil
}

func entryOf(n *datatext.Node, key string) *datatext.Entry {
	if n == nil {
		return nil
	}
	for i := range n.Entries {
		if n.Entries[i].Key == key {
			return &n.Entries[i]
		}
	}
	return nil
}

// sameButFor returns an error if an edit changed anything else than a key, or broke the file. there
// says whether the key is to be there now.
func sameButFor(before, after []byte, table Table, key string, there bool) error {
	faults := [2]int{}
	var roots [2]*datatext.Node
	for i, data := range [][]byte{before, after} {
		roots[i] = datatext.ReadTOML(data, func(int, int, string) { faults[i]++ })
	}
	if faults[1] > faults[0] || (at(roots[1], table).Get(key) != nil) != there || flat(roots[0], table, key) != flat(roots[1], table, key) {
		return fmt.Errorf("%s.%s cannot be written into this file without touching more than it; correct the file's mistakes, or write it by hand", table, key)
	}
	return nil
}

// flat returns all values except that of one key, for comparison.
func flat(n *datatext.Node, table Table, key string) string {
	but := ""
	for _, k := range table {
		but += "." + k
	}
	but += "." + key
	var b strings.Builder
	var walk func(n *datatext.Node, path string)
	walk = func(n *datatext.Node, path string) {
		if path == but {
			return
		}
		if n.Scalar() {
			fmt.Fprintf(&b, "%q=%q\n", path, n.Text)
		}
		for i, item := range n.Items {
			walk(item, path+"["+strconv.Itoa(i)+"]")
		}
		for _, e := range n.Entries {
			walk(e.Value, path+"."+e.Key)
		}
	}
	walk(n, "")
	return b.String()
}

// offsetOf finds a place, whose column is in characters.
func offsetOf(data []byte, line, column int) int {
	at := 0
	for ; line > 1; line-- {
		i := bytes.IndexByte(data[at:], '\n')
		if i < 0 {
			return len(data)
		}
		at += i + 1
	}
	rest := []rune(string(data[at:min(len(data), at+4*column)]))
	return at + len(string(rest[:min(len(rest), column-1)]))
}

// valueLength returns the length in bytes of the TOML value at the start of b.
func valueLength(b []byte) int {
	switch {
	case len(b) == 0:
		return 0
	case b[0] == '[' || b[0] == '{':
		depth := 0
		for i := 0; i < len(b); {
			switch b[i] {
			case '[', '{':
				depth++
				i++
			case ']', '}':
				i++
				if depth--; depth == 0 {
					return i
				}
			case '"', '\'':
				i += stringLength(b[i:])
			case '#':
				for i < len(b) && b[i] != '\n' {
					i++
				}
			default:
				i++
			}
		}
		return len(b)
	case b[0] == '"' || b[0] == '\'':
		return stringLength(b)
	}
	n := bytes.IndexAny(b, "#\r\n,]}")
	if n < 0 {
		n = len(b)
	}
	return len(bytes.TrimRight(b[:n], " \t"))
}

// stringLength returns the length in bytes of a TOML string.
func stringLength(b []byte) int {
	quote := b[:1]
	if len(b) >= 3 && b[1] == b[0] && b[2] == b[0] {
		quote = b[:3]
	}
	for i := len(quote); i < len(b); i++ {
		if b[i] == '\\' && b[0] == '"' {
			i++
			continue
		}
		if bytes.HasPrefix(b[i:], quote) {
			end := i + len(quote)
			for len(quote) == 3 && end < len(b) && b[end] == b[0] && end < i+5 {
				end++ // quotes before the end belong to the text
			}
			return end
		}
	}
	return len(b)
}

// appendItem adds an item to the text of a list, in its layout.
func appendItem(list []byte, item string) []byte {
	inner := bytes.TrimRight(list[:len(list)-1], " \t\r\n")
	tail := list[len(inner):] // up to the bracket, and it
	empty := len(bytes.TrimSpace(inner[1:])) == 0
	if i := lastComment(inner); i >= 0 || bytes.Contains(tail, []byte("\n")) {
		// Items are on lines of their own.
		body, comment := inner, []byte(nil)
		if i >= 0 {
			body, comment = inner[:i], inner[i:]
		}
		kept := bytes.TrimRight(body, " \t\r\n")
		space := body[len(kept):]
		if !bytes.HasSuffix(kept, []byte(",")) && !empty && len(kept) > 1 {
			kept = append(slices.Clone(kept), ',')
		}
		return slices.Concat(kept, space, comment, []byte("\n"+indentOf(inner)+item+","), tail)
	}
	if empty {
		return []byte("[" + item + "]")
	}
	inner = bytes.TrimSuffix(inner, []byte(","))
	return slices.Concat(inner, []byte(", "+item), tail)
}

// lastComment finds a comment on the last line of a list, or -1.
func lastComment(b []byte) int {
	last := -1
	for i := 0; i < len(b); {
		switch b[i] {
		case '"', '\'':
			i += stringLength(b[i:])
		case '#':
			last = i
			for i < len(b) && b[i] != '\n' {
				i++
			}
		case '\n':
			last = -1
			i++
		default:
			i++
		}
	}
	return last
}

// indentOf is the white space before the last line of a list.
func indentOf(b []byte) string {
	line := b[bytes.LastIndexByte(b, '\n')+1:]
	if len(line) == len(b) {
		return "  "
	}
	return string(line[:len(line)-len(bytes.TrimLeft(line, " \t"))])
}

// removeItem removes a string from the text of a list, with its comma.
func removeItem(list []byte, item string) []byte {
	for i := 1; i < len(list); {
		switch list[i] {
		case '"', '\'':
			n := stringLength(list[i:])
			var text string
			root := datatext.ReadTOML(slices.Concat([]byte("x = "), list[i:i+n]), func(int, int, string) {})
			text = root.Get("x").Str()
			if text != item {
				i += n
				continue
			}
			end := i + n
			if rest := bytes.TrimLeft(list[end:], " \t"); bytes.HasPrefix(rest, []byte(",")) {
				end = len(list) - len(rest) + 1
				for end < len(list) && (list[end] == ' ' || list[end] == '\t') {
					end++
				}
				return slices.Concat(list[:i], list[end:])
			}
			before := bytes.TrimRight(list[:i], " \t\r\n")
			before = bytes.TrimSuffix(before, []byte(","))
			return slices.Concat(before, list[end:])
		case '#':
			for i < len(list) && list[i] != '\n' {
				i++
			}
		default:
			i++
		}
	}
	return list
}

// headerEnd finds the end of the line of a table's header, or -1.
func headerEnd(data []byte, table Table) int {
	for at := 0; at < len(data); {
		end := lineEnd(data, at)
		if line := bytes.TrimSpace(data[at:end]); len(line) > 1 && line[0] == '[' && line[1] != '[' {
			if header := datatext.ReadTOML(line, func(int, int, string) {}); slices.Equal(keysTo(header), table) {
				return end
			}
		}
		at = end
	}
	return -1
}

// keysTo returns the keys that lead to the innermost table of a file that has one header alone.
func keysTo(root *datatext.Node) (keys Table) {
	for len(root.Entries) == 1 {
		keys = append(keys, root.Entries[0].Key)
		root = root.Entries[0].Value
	}
	return keys
}

// lastKeyEnd returns the end of the last key of a table, where a new key goes. at is
// the end of the table's header.
func lastKeyEnd(data []byte, at int) int {
	last := at
	for at < len(data) {
		end := at + bytes.IndexByte(data[at:], '\n') + 1
		if end <= at {
			end = len(data)
		}
		line := bytes.TrimSpace(data[at:end])
		switch {
		case len(line) > 0 && line[0] == '[':
			return last
		case len(line) == 0 || line[0] == '#':
		default:
			if i := bytes.IndexByte(data[at:end], '='); i >= 0 {
				value := at + i + 1
				for value < len(data) && (data[value] == ' ' || data[value] == '\t') {
					value++
				}
				value += valueLength(data[value:])
				if n := bytes.IndexByte(data[value:], '\n'); n >= 0 {
					end = value + n + 1
				} else {
					end = len(data)
				}
			}
			last = end
		}
		at = end
	}
	return last
}

// bareOrQuoted writes a key (TOML 1.0, "Keys").
func bareOrQuoted(key string) string {
	for _, r := range key {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' || r == '-') {
			return quoteTOML(key)
		}
	}
	if key == "" {
		return `""`
	}
	return key
}

// quoteTOML writes a text as a TOML string.
func quoteTOML(s string) string {
	if strings.ContainsAny(s, `\"`) && !strings.ContainsAny(s, "'\n\r\t") && !strings.ContainsFunc(s, func(r rune) bool { return r < 0x20 || r == 0x7f }) {
		return "'" + s + "'"
	}
	return `"` + InQuotes(s) + `"`
}

// InQuotes escapes a text for a place between double quotes (TOML 1.0, "String").
func InQuotes(s string) string {
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < 0x20 || r == 0x7f:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// EditFile edits a tally file, which need not exist. The file is replaced as a
// whole; a symbolic link stays one.
func EditFile(name string, change func([]byte) ([]byte, error)) error {
	if target, err := filepath.EvalSymlinks(name); err == nil {
		name = target
	}
	data, err := files.Read(name, files.Limit)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	changed, err := change(data)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if bytes.Equal(changed, data) {
		return nil
	}
	return renameio.WriteFile(name, changed, 0o644, renameio.WithExistingPermissions())
}

// ReplaceAt replaces the string that begins at a line and a column, as faults and
// origins have them. It fails if there is no string.
func ReplaceAt(data []byte, line, column int, value string) ([]byte, error) {
	start := offsetOf(data, line, column)
	if start >= len(data) || data[start] != '"' && data[start] != '\'' {
		return nil, fmt.Errorf("line %d has no string at column %d any more; it was changed meanwhile", line, column)
	}
	return slices.Concat(data[:start], []byte(quoteTOML(value)), data[start+stringLength(data[start:]):]), nil
}
