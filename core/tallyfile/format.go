package tallyfile

import (
	"bytes"
	"errors"
	"strings"

	"tidytally/core/datatext"
)

// Format lays a tally file out evenly: one space around the equals sign, but what is lined up in a column stays
// lined up; one empty line before a table with the comments above it, no more than one anywhere; no blanks at the
// ends of lines. Comments, the order of keys and the inside of values stay. A file with a mistake is
// an error.
func Format(data []byte) ([]byte, error) {
	bad := false
	newline := newlineOf(data)
	data = bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
	before := datatext.ReadTOML(data, func(int, int, string) { bad = true })
	if bad {
		return nil, errors.New("the file has a mistake; mend that first")
	}
	lines := strings.Split(string(data), "\n")
	var out []string
	inside := "" // the quotes of a string over several lines that goes on
	depth := 0   // of brackets of a value that goes on
	for _, line := range lines {
		if inside != "" { // a string: every byte counts
			inside, depth = scanValue(line, inside, depth)
			out = append(out, line)
			continue
		}
		text := strings.TrimRight(line, " \t")
		going := depth > 0
		key := -1
		if !going {
			text = strings.TrimLeft(text, " \t")
			if text != "" && text[0] != '#' && text[0] != '[' {
				key = equalsAt(text)
			}
		}
		if key >= 0 {
			text = spaced(text, key)
			inside, depth = scanValue(text[equalsAt(text)+1:], "", 0)
		} else if going {
			inside, depth = scanValue(text, "", depth)
		}
		if inside != "" {
			text += line[len(strings.TrimRight(line, " \t")):]
		}
		if text == "" && (len(out) == 0 || out[len(out)-1] == "") && !going {
			continue
		}
		if !going && strings.HasPrefix(text, "[") {
			out = withGap(out)
		}
		out = append(out, text)
	}
	for len(out) > 0 && out[len(out)-1] == "" {
		out = out[:len(out)-1]
	}
	result := []byte(strings.Join(append(out, ""), "\n"))
	after := datatext.ReadTOML(result, func(int, int, string) { bad = true })
	if bad || flat(before, nil, "") != flat(after, nil, "") {
		return nil, errors.New("the file is left as it is: laid out anew it would say something else")
	}
	if newline != "\n" {
		result = bytes.ReplaceAll(result, []byte("\n"), []byte(newline))
	}
	return result, nil
}

// withGap puts an empty line before the comments that stand above a table header.
func withGap(out []string) []string {
	at := len(out)
	for at > 0 && strings.HasPrefix(out[at-1], "#") {
		at--
	}
	if at == 0 || out[at-1] == "" {
		return out
	}
	return append(out[:at:at], append([]string{""}, out[at:]...)...)
}

// equalsAt returns the index of the equals sign behind a key; -1 if there is none.
func equalsAt(line string) int {
	quote := byte(0)
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case quote == '"' && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '#':
			return -1
		case c == '=':
			return i
		}
	}
	return -1
}

// spaced puts a blank before and behind the equals sign of a line, where there is none; more before it stay:
// they line it up.
func spaced(line string, equals int) string {
	name, value := line[:equals], strings.TrimLeft(line[equals+1:], " \t")
	if !strings.HasSuffix(name, " ") {
		name = strings.TrimRight(name, "\t") + " "
	}
	return name + "= " + value
}

// scanValue reads a part of a value. inside are the quotes of a string over several lines that goes on at its
// beginning, and depth the brackets that are open; it returns both for its end.
func scanValue(text, inside string, depth int) (string, int) {
	for i := 0; i < len(text); {
		rest := text[i:]
		switch {
		case inside != "":
			if inside == `"""` && rest[0] == '\\' {
				i += 2
				continue
			}
			if strings.HasPrefix(rest, inside) {
				i += len(inside)
				inside = ""
				continue
			}
		case rest[0] == '#':
			return "", depth
		case strings.HasPrefix(rest, `"""`), strings.HasPrefix(rest, "'''"):
			inside = rest[:3]
			i += 3
			continue
		case rest[0] == '"' || rest[0] == '\'':
			i += max(1, stringLength([]byte(rest)))
			continue
		case rest[0] == '[' || rest[0] == '{':
			depth++
		case rest[0] == ']' || rest[0] == '}':
			depth--
		}
		i++
	}
	return inside, depth
}
