package reader

import (
	"maps"
	"strings"
)

// mesonCalls returns the calls of functions in a meson.build file with their first
// argument, as far as it can be told without running anything: strings, variables,
// lists and dictionaries, foreach, + and format (Meson syntax manual). Both sides of an
// if are read.
func mesonCalls(data []byte) []call {
	m := &mesonWalk{vars: map[string]mesonValue{}}
	m.run(mesonTokens(string(data)), 0)
	return m.calls
}

const (
	maxMesonSteps = 200_000 // statements and values of one file
	maxMesonDepth = 50      // loops, lists and brackets in each other
)

type mesonWalk struct {
	vars  map[string]mesonValue
	calls []call
	steps int
}

// mesonValue is a string, a list, a dictionary, or, if kind is 0, unknown.
type mesonValue struct {
	kind byte // 's', 'l', 'd'
	text string
	list []mesonValue // of a dictionary its values
	keys []string     // of a dictionary
}

type mesonToken struct {
	kind byte // 'i' a name, 's' a string, 'f' a formatted one, 'n' a number, '\n' a line's end, or the character itself
	text string
	line int
}

// mesonTokens splits a text. Line ends in brackets are none.
func mesonTokens(s string) (out []mesonToken) {
	line, depth := 1, 0
	for i := 0; i < len(s); {
		c := s[i]
		switch {
		case c == '\n':
			if depth == 0 {
				out = append(out, mesonToken{'\n', "", line})
			}
			line++
			i++
		case c == ' ' || c == '\t' || c == '\r':
			i++
		case c == '\\' && i+1 < len(s) && s[i+1] == '\n':
			line++
			i += 2
		case c == '#':
			for i < len(s) && s[i] != '\n' {
				i++
			}
		case c == '\'' || c == 'f' && i+1 < len(s) && s[i+1] == '\'':
			kind := byte('s')
			if c == 'f' {
				kind = 'f'
				i++
			}
			end, n := stringEnd(s, i)
			text, at := s[i:end], line
			if t := strings.TrimPrefix(text, "'''"); t != text {
				text = strings.TrimSuffix(t, "'''")
			} else {
				text = mesonEscapes.Replace(strings.TrimSuffix(text[1:], "'"))
			}
			out = append(out, mesonToken{kind, text, at})
			line += n
			i = end
		case c == '_' || c|0x20 >= 'a' && c|0x20 <= 'z':
			start := i
			for i < len(s) && (s[i] == '_' || s[i] >= '0' && s[i] <= '9' || s[i]|0x20 >= 'a' && s[i]|0x20 <= 'z') {
				i++
			}
			out = append(out, mesonToken{'i', s[start:i], line})
		case c >= '0' && c <= '9':
			start := i
			for i < len(s) && (s[i] >= '0' && s[i] <= '9' || s[i]|0x20 >= 'a' && s[i]|0x20 <= 'z') {
				i++
			}
			out = append(out, mesonToken{'n', s[start:i], line})
		default:
			switch c {
			case '(', '[', '{':
				depth++
			case ')', ']', '}':
				depth = max(0, depth-1)
			}
			out = append(out, mesonToken{c, "", line})
			i++
		}
	}
	return append(out, mesonToken{'\n', "", line})
}

var mesonEscapes = strings.NewReplacer(`\'`, "'", `\\`, `\`, `\n`, "\n")

// run follows statements.
func (m *mesonWalk) run(t []mesonToken, depth int) {
	for len(t) > 0 && m.steps < maxMesonSteps && depth < maxMesonDepth {
		m.steps++
		end := 0
		for end < len(t) && t[end].kind != '\n' {
			end++
		}
		s := t[:end]
		t = t[min(len(t), end+1):]
		if len(s) == 0 {
			continue
		}
		if s[0].text == "foreach" && s[0].kind == 'i' {
			body := mesonBody(t)
			m.loop(s[1:], t[:body], depth)
			t = t[min(len(t), body):]
			continue
		}
		m.find(s)
		if len(s) > 2 && s[0].kind == 'i' {
			switch {
			case s[1].kind == '=':
				m.vars[s[0].text], _ = m.value(s[2:], 0)
			case s[1].kind == '+' && s[2].kind == '=':
				v, _ := m.value(s[3:], 0)
				m.vars[s[0].text] = mesonSum(m.vars[s[0].text], v)
			}
		}
	}
}

// mesonBody returns the number of tokens up to the endforeach that ends a loop.
func mesonBody(t []mesonToken) int {
	depth := 1
	for i, x := range t {
		if x.kind != 'i' {
			continue
		}
		switch x.text {
		case "foreach":
			depth++
		case "endforeach":
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return len(t)
}

// loop follows "a : list" or "k, v : dictionary".
func (m *mesonWalk) loop(head, body []mesonToken, depth int) {
	var names []string
	i := 0
	for i < len(head) && head[i].kind != ':' {
		if head[i].kind == 'i' {
			names = append(names, head[i].text)
		}
		i++
	}
	v, _ := m.value(head[min(len(head), i+1):], 0)
	if len(names) == 0 || v.kind == 's' {
		return
	}
	if v.kind == 0 { // once, with nothing known of its variables
		for _, n := range names {
			m.vars[n] = mesonValue{}
		}
		m.run(body, depth+1)
		return
	}
	for k, item := range v.list {
		if m.steps++; m.steps > maxMesonSteps {
			return
		}
		switch {
		case v.kind == 'd' && len(names) == 2:
			m.vars[names[0]], m.vars[names[1]] = mesonValue{kind: 's', text: v.keys[k]}, item
		case v.kind == 'l' && len(names) == 1:
			m.vars[names[0]] = item
		default:
			return
		}
		m.run(body, depth+1)
	}
}

// find records the calls in a statement.
func (m *mesonWalk) find(s []mesonToken) {
	for i := 0; i+1 < len(s); i++ {
		if s[i].kind != 'i' || s[i+1].kind != '(' || i > 0 && s[i-1].kind == '.' || len(m.calls) >= 100_000 {
			continue
		}
		c := call{name: s[i].text, line: s[i].line}
		v, n := m.value(s[i+2:], 0)
		if rest := s[min(len(s), i+2+n):]; v.kind == 's' && len(rest) > 0 && (rest[0].kind == ',' || rest[0].kind == ')') && !strings.ContainsAny(v.text, "\n\x00") {
			c.literal = v.text
		}
		m.calls = append(m.calls, c)
	}
}

// value reads an expression. n is the number of its tokens, as far as it was understood.
func (m *mesonWalk) value(t []mesonToken, depth int) (v mesonValue, n int) {
	v, n = m.operand(t, depth)
	for n < len(t) && (t[n].kind == '+' || t[n].kind == '/') {
		w, k := m.operand(t[n+1:], depth)
		if k == 0 {
			return mesonValue{}, n
		}
		if t[n].kind == '/' && v.kind == 's' && w.kind == 's' {
			v.text += "/" + w.text
		} else if t[n].kind == '+' {
			v = mesonSum(v, w)
		} else {
			v = mesonValue{}
		}
		n += 1 + k
	}
	return v, n
}

func mesonSum(a, b mesonValue) mesonValue {
	switch {
	case a.kind == 's' && b.kind == 's' && len(a.text)+len(b.text) < 4096:
		return mesonValue{kind: 's', text: a.text + b.text}
	case a.kind == 'l' && b.kind == 'l' && len(a.list)+len(b.list) < 10_000:
		return mesonValue{kind: 'l', list: append(append([]mesonValue(nil), a.list...), b.list...)}
	case a.kind == 'l' && b.kind == 's':
		return mesonValue{kind: 'l', list: append(append([]mesonValue(nil), a.list...), b)}
	case a.kind == 'd' && b.kind == 'd' && len(a.list)+len(b.list) < 10_000:
		return mesonValue{kind: 'd', list: append(append([]mesonValue(nil), a.list...), b.list...), keys: append(append([]string(nil), a.keys...), b.keys...)}
	}
	return mesonValue{}
}

// operand reads a value with what is called of it: 'a_@0@'.format(x), list[0],
// dictionary['k'].
func (m *mesonWalk) operand(t []mesonToken, depth int) (v mesonValue, n int) {
	if m.steps++; len(t) == 0 || depth > maxMesonDepth || m.steps > maxMesonSteps {
		return v, 0
	}
	switch t[0].kind {
	case 's':
		v, n = mesonValue{kind: 's', text: t[0].text}, 1
	case 'f':
		v, n = m.format(t[0].text, maps.All(m.vars)), 1
	case 'n':
		v, n = mesonValue{kind: 'n', text: t[0].text}, 1
	case 'i':
		if len(t) > 1 && t[1].kind == '(' {
			return v, 0
		}
		v, n = m.vars[t[0].text], 1
	case '(':
		v, n = m.value(t[1:], depth+1)
		if 1+n >= len(t) || t[1+n].kind != ')' {
			return mesonValue{}, 0
		}
		n += 2
	case '[':
		v, n = m.items(t, ']', depth)
	case '{':
		v, n = m.items(t, '}', depth)
	}
	for n > 0 && n < len(t) {
		switch {
		case t[n].kind == '[':
			index, k := m.value(t[n+1:], depth+1)
			if n+1+k >= len(t) || t[n+1+k].kind != ']' {
				return mesonValue{}, 0
			}
			v, n = v.at(index), n+k+2
		case t[n].kind == '.' && n+2 < len(t) && t[n+1].kind == 'i' && t[n+2].kind == '(':
			args, k := m.items(t[n+2:], ')', depth)
			if k == 0 {
				return mesonValue{}, 0
			}
			v, n = m.method(v, t[n+1].text, args.list), n+2+k
		default:
			return v, n
		}
	}
	return v, n
}

// items reads a list, a dictionary or arguments, from its bracket on.
func (m *mesonWalk) items(t []mesonToken, closing byte, depth int) (v mesonValue, n int) {
	v.kind = 'l'
	if closing == '}' {
		v.kind = 'd'
	}
	for n = 1; n < len(t); {
		if t[n].kind == closing {
			return v, n + 1
		}
		item, k := m.value(t[n:], depth+1)
		if k == 0 {
			return mesonValue{}, 0
		}
		n += k
		if v.kind == 'd' {
			if n >= len(t) || t[n].kind != ':' {
				return mesonValue{}, 0
			}
			v.keys = append(v.keys, item.text)
			if item, k = m.value(t[n+1:], depth+1); k == 0 {
				return mesonValue{}, 0
			}
			n += 1 + k
		}
		v.list = append(v.list, item)
		if n < len(t) && t[n].kind == ',' {
			n++
		} else if n < len(t) && t[n].kind != closing {
			return mesonValue{}, 0
		}
	}
	return mesonValue{}, 0
}

// at returns an element of a list or a dictionary.
func (v mesonValue) at(index mesonValue) mesonValue {
	switch {
	case v.kind == 'd' && index.kind == 's':
		for i := len(v.keys) - 1; i >= 0; i-- {
			if v.keys[i] == index.text {
				return v.list[i]
			}
		}
	case v.kind == 'l' && index.kind == 'n':
		i := 0
		for _, c := range index.text {
			if i = 10*i + int(c-'0'); c < '0' || c > '9' || i > len(v.list) {
				return mesonValue{}
			}
		}
		if i < len(v.list) {
			return v.list[i]
		}
	}
	return mesonValue{}
}

// method returns what a method of a value returns.
func (m *mesonWalk) method(v mesonValue, name string, args []mesonValue) mesonValue {
	switch {
	case v.kind == 's' && name == "format":
		return m.format(v.text, func(yield func(string, mesonValue) bool) {
			for i, a := range args {
				if !yield(string(rune('0'+i%10)), a) || i == 9 {
					return
				}
			}
		})
	case v.kind == 's' && name == "to_lower":
		return mesonValue{kind: 's', text: strings.ToLower(v.text)}
	case v.kind == 's' && name == "to_upper":
		return mesonValue{kind: 's', text: strings.ToUpper(v.text)}
	case v.kind == 's' && name == "strip" && len(args) == 0:
		return mesonValue{kind: 's', text: strings.TrimSpace(v.text)}
	case v.kind == 's' && name == "underscorify":
		return mesonValue{kind: 's', text: strings.Map(func(r rune) rune {
			if r >= '0' && r <= '9' || r|0x20 >= 'a' && r|0x20 <= 'z' {
				return r
			}
			return '_'
		}, v.text)}
	case v.kind == 's' && name == "join" && len(args) == 1 && args[0].kind == 'l':
		var parts []string
		for _, a := range args[0].list {
			if a.kind != 's' {
				return mesonValue{}
			}
			parts = append(parts, a.text)
		}
		return mesonValue{kind: 's', text: strings.Join(parts, v.text)}
	case v.kind == 's' && name == "replace" && len(args) == 2 && args[0].kind == 's' && args[1].kind == 's' && args[0].text != "":
		return mesonValue{kind: 's', text: strings.ReplaceAll(v.text, args[0].text, args[1].text)}
	case v.kind == 's' && name == "split" && len(args) <= 1:
		parts := strings.Fields(v.text)
		if len(args) == 1 && args[0].text != "" {
			parts = strings.Split(v.text, args[0].text)
		}
		out := mesonValue{kind: 'l'}
		for _, p := range parts {
			out.list = append(out.list, mesonValue{kind: 's', text: p})
		}
		return out
	case v.kind == 'd' && name == "keys":
		out := mesonValue{kind: 'l'}
		for _, k := range v.keys {
			out.list = append(out.list, mesonValue{kind: 's', text: k})
		}
		return out
	}
	return mesonValue{}
}

// format replaces @name@ in a text.
func (m *mesonWalk) format(text string, values func(func(string, mesonValue) bool)) mesonValue {
	known := true
	for name, v := range values {
		if place := "@" + name + "@"; strings.Contains(text, place) {
			known = known && (v.kind == 's' || v.kind == 'n')
			text = strings.ReplaceAll(text, place, v.text)
		}
	}
	if !known || len(text) > 4096 {
		return mesonValue{}
	}
	return mesonValue{kind: 's', text: text}
}
