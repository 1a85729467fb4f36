package cmakelists

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"tidytally/core/reader/declare"
)

// list() and string() (cmake-commands(7)), and math().

// list follows list().
func (s *scope) listCommand(w []string) {
	if len(w) < 2 || unknown(w[0], w[1]) {
		return
	}
	name, args := w[1], w[2:]
	list := s.list(name)
	open := unknown(list...) // places and lengths are not known
	at := func(text string) (int, bool) {
		n, err := strconv.Atoi(text)
		if n < 0 {
			n += len(list)
		}
		return n, err == nil && n >= 0 && n <= len(list)
	}
	answer := func(out string, value string, ok bool) {
		if !ok {
			value = declare.Unknown
		}
		s.set(out, value)
	}
	last := ""
	if len(args) > 0 {
		last = args[len(args)-1]
	}
	switch w[0] {
	case "APPEND":
		s.setList(name, append(slices.Clone(list), args...))
	case "PREPEND":
		s.setList(name, append(slices.Clone(args), list...))
	case "LENGTH":
		answer(last, strconv.Itoa(len(list)), !open)
	case "GET":
		var got []string
		for _, x := range args[:max(0, len(args)-1)] {
			if n, ok := at(x); ok && n < len(list) && (!open || x[0] != '-' && !unknown(list[:n+1]...)) {
				got = append(got, list[n])
			} else {
				got = append(got, declare.Unknown)
			}
		}
		s.setList(last, got)
	case "JOIN":
		if len(args) == 2 {
			answer(args[1], strings.Join(list, args[0]), true)
		}
	case "SUBLIST":
		if len(args) == 3 {
			from, ok := at(args[0])
			n, err := strconv.Atoi(args[1])
			if !ok || err != nil || open {
				s.set(args[2], declare.Unknown)
				break
			}
			to := len(list)
			if n >= 0 {
				to = min(to, from+n)
			}
			s.setList(args[2], list[min(from, to):to])
		}
	case "FIND":
		if len(args) == 2 {
			i := slices.Index(list, args[0])
			answer(args[1], strconv.Itoa(i), !unknown(args[0]) && (!open || i >= 0 && !unknown(list[:i]...)))
		}
	case "INSERT":
		if n, ok := at(args[0]); len(args) > 1 && ok {
			s.setList(name, slices.Insert(slices.Clone(list), n, args[1:]...))
		}
	case "REMOVE_AT":
		var drop []int
		for _, x := range args {
			if n, ok := at(x); ok {
				drop = append(drop, n)
			}
		}
		i := -1
		s.setList(name, slices.DeleteFunc(slices.Clone(list), func(string) bool { i++; return slices.Contains(drop, i) }))
	case "REMOVE_ITEM":
		s.setList(name, slices.DeleteFunc(slices.Clone(list), func(x string) bool { return slices.Contains(args, x) }))
	case "REMOVE_DUPLICATES":
		seen := map[string]bool{}
		s.setList(name, slices.DeleteFunc(slices.Clone(list), func(x string) bool { was := seen[x] && x != declare.Unknown; seen[x] = true; return was }))
	case "REVERSE":
		list = slices.Clone(list)
		slices.Reverse(list)
		s.setList(name, list)
	case "SORT":
		list = slices.Clone(list)
		slices.SortStableFunc(list, sortOrder(args))
		s.setList(name, list)
	case "FILTER":
		if len(args) >= 3 && args[1] == "REGEX" {
			re, err := cmakeRegexp(args[2])
			if err != nil || unknown(args[2]) {
				s.set(name, declare.Unknown)
				break
			}
			s.setList(name, slices.DeleteFunc(slices.Clone(list), func(x string) bool {
				return !unknown(x) && re.MatchString(x) == (args[0] == "EXCLUDE")
			}))
		}
	case "POP_BACK", "POP_FRONT":
		list = slices.Clone(list)
		for range max(1, len(args)) {
			v := declare.Unknown
			if len(list) > 0 {
				i := 0
				if w[0] == "POP_BACK" {
					i = len(list) - 1
				}
				v = list[i]
				if v != declare.Unknown { // which may be several, or none
					list = slices.Delete(list, i, i+1)
				}
			} else {
				v = ""
			}
			if len(args) > 0 {
				s.set(args[0], v)
				args = args[1:]
			}
		}
		s.setList(name, list)
	case "TRANSFORM":
		s.transform(name, list, args)
	}
}

// sortOrder returns the order of list(SORT), with its options.
func sortOrder(args []string) func(a, b string) int {
	option := func(name string) string {
		if i := slices.Index(args, name); i >= 0 && i+1 < len(args) {
			return args[i+1]
		}
		return ""
	}
	return func(a, b string) int {
		if option("COMPARE") == "FILE_BASENAME" {
			a, b = a[strings.LastIndexByte(a, '/')+1:], b[strings.LastIndexByte(b, '/')+1:]
		}
		if option("CASE") == "INSENSITIVE" {
			a, b = strings.ToLower(a), strings.ToLower(b)
		}
		d := strings.Compare(a, b)
		if option("COMPARE") == "NATURAL" {
			d = natural(a, b)
		}
		if option("ORDER") == "DESCENDING" {
			d = -d
		}
		return d
	}
}

// natural compares texts, numbers in them by their value.
func natural(a, b string) int {
	for a != "" && b != "" {
		x, y := len(a)-len(strings.TrimLeft(a, "0123456789")), len(b)-len(strings.TrimLeft(b, "0123456789"))
		if x > 0 && y > 0 {
			n, _ := strconv.Atoi(a[:x])
			m, _ := strconv.Atoi(b[:y])
			if n != m {
				return n - m
			}
			a, b = a[x:], b[y:]
			continue
		}
		if a[0] != b[0] {
			return int(a[0]) - int(b[0])
		}
		a, b = a[1:], b[1:]
	}
	return len(a) - len(b)
}

// transform follows list(TRANSFORM).
func (s *scope) transform(name string, list, args []string) {
	if len(args) == 0 {
		return
	}
	action, rest := args[0], args[1:]
	given := map[string]int{"APPEND": 1, "PREPEND": 1, "REPLACE": 2}[action]
	if len(rest) < given {
		return
	}
	values, rest := rest[:given], rest[given:]
	chosen := func(int, string) bool { return true }
	for i := 0; i < len(rest); i++ {
		switch rest[i] {
		case "OUTPUT_VARIABLE":
			if i+1 < len(rest) {
				name = rest[i+1]
				i++
			}
		case "REGEX":
			if i+1 < len(rest) {
				re, err := cmakeRegexp(rest[i+1])
				chosen = func(_ int, x string) bool { return err == nil && re.MatchString(x) }
				i++
			}
		case "AT", "FOR":
			numbers := rest[i+1:]
			isFor := rest[i] == "FOR"
			chosen = func(k int, _ string) bool {
				if isFor {
					n := [3]int{0, len(list) - 1, 1}
					for j := range min(3, len(numbers)) {
						n[j], _ = strconv.Atoi(numbers[j])
					}
					return k >= n[0] && k <= n[1] && (k-n[0])%max(1, n[2]) == 0
				}
				return slices.ContainsFunc(numbers, func(x string) bool {
					n, err := strconv.Atoi(x)
					return err == nil && (n == k || n+len(list) == k)
				})
			}
		}
	}
	out := slices.Clone(list)
	for i, x := range out {
		if x == declare.Unknown || !chosen(i, x) {
			continue
		}
		switch action {
		case "APPEND":
			out[i] = x + values[0]
		case "PREPEND":
			out[i] = values[0] + x
		case "TOUPPER":
			out[i] = strings.ToUpper(x)
		case "TOLOWER":
			out[i] = strings.ToLower(x)
		case "STRIP":
			out[i] = strings.TrimSpace(x)
		case "GENEX_STRIP":
			out[i] = withoutGenerators(x)
		case "REPLACE":
			re, err := cmakeRegexp(values[0])
			if err != nil || unknown(values...) {
				out[i] = declare.Unknown
				continue
			}
			out[i] = replaceAll(re, x, values[1])
		}
	}
	s.setList(name, out)
}

// withoutGenerators takes generator expressions out of a text.
func withoutGenerators(text string) string {
	for {
		start := strings.Index(text, "$<")
		if start < 0 {
			return text
		}
		depth, end := 0, len(text)
		for i := start; i < len(text); i++ {
			if strings.HasPrefix(text[i:], "$<") {
				depth++
			} else if text[i] == '>' {
				if depth--; depth == 0 {
					end = i + 1
					break
				}
			}
		}
		text = text[:start] + text[end:]
	}
}

// replaceAll replaces matches as string(REGEX REPLACE) does: \1 is the first group.
func replaceAll(re *regexp.Regexp, text, with string) string {
	template := strings.ReplaceAll(with, "$", "$$")
	var b strings.Builder
	for i := 0; i < len(template); i++ {
		if template[i] == '\\' && i+1 < len(template) {
			i++
			if d := template[i]; d >= '0' && d <= '9' {
				b.WriteString("${" + string(d) + "}")
			} else {
				b.WriteByte(d)
			}
			continue
		}
		b.WriteByte(template[i])
	}
	return re.ReplaceAllString(text, b.String())
}

// stringCommand follows string().
func (s *scope) stringCommand(w []string) {
	if len(w) < 2 {
		return
	}
	args := w[1:]
	last := args[len(args)-1]
	switch w[0] {
	case "APPEND":
		s.set(args[0], s.value(args[0])+strings.Join(args[1:], ""))
		return
	case "PREPEND":
		s.set(args[0], strings.Join(args[1:], "")+s.value(args[0]))
		return
	case "CONCAT":
		s.set(args[0], strings.Join(args[1:], ""))
		return
	case "JOIN":
		if len(args) > 1 {
			s.set(args[1], strings.Join(args[2:], args[0]))
		}
		return
	case "REGEX":
		s.regex(args)
		return
	case "CONFIGURE":
		if len(args) > 1 {
			s.set(args[1], s.configured(args[0], slices.Contains(args, "@ONLY")))
		}
		return
	}
	out, value := last, ""
	known := !unknown(args...)
	arg := func(i int) string {
		if i < len(args) {
			return args[i]
		}
		return ""
	}
	switch w[0] {
	case "TOLOWER":
		out, value, known = arg(1), strings.ToLower(args[0]), true
	case "TOUPPER":
		out, value, known = arg(1), strings.ToUpper(args[0]), true
	case "STRIP":
		out, value = arg(1), strings.TrimSpace(args[0])
	case "GENEX_STRIP":
		out, value = arg(1), withoutGenerators(args[0])
	case "LENGTH":
		out, value = arg(1), strconv.Itoa(len(args[0]))
	case "SUBSTRING":
		from, err1 := strconv.Atoi(arg(1))
		n, err2 := strconv.Atoi(arg(2))
		out = arg(3)
		if known = known && err1 == nil && err2 == nil && from >= 0 && from <= len(args[0]); known {
			if value = args[0][from:]; n >= 0 {
				value = value[:min(n, len(value))]
			}
		}
	case "FIND":
		i := strings.Index(args[0], arg(1))
		if slices.Contains(args[2:], "REVERSE") {
			i = strings.LastIndex(args[0], arg(1))
		}
		out, value = arg(2), strconv.Itoa(i)
	case "REPLACE":
		out, value = arg(2), strings.ReplaceAll(strings.Join(args[min(3, len(args)):], ""), args[0], arg(1))
	case "REPEAT":
		n, err := strconv.Atoi(arg(1))
		out = arg(2)
		if known = known && err == nil && n >= 0 && n*len(args[0]) < maxValue; known {
			value = strings.Repeat(args[0], n)
		}
	case "MAKE_C_IDENTIFIER":
		out, value = arg(1), identifier(args[0])
	case "COMPARE":
		out = arg(3)
		yes := false
		switch args[0] {
		case "EQUAL":
			yes = arg(1) == arg(2)
		case "NOTEQUAL":
			yes = arg(1) != arg(2)
		default:
			yes = ordered(strings.Compare(arg(1), arg(2)), args[0])
		}
		value = "0"
		if yes {
			value = "1"
		}
	case "ASCII":
		for _, x := range args[:len(args)-1] {
			n, _ := strconv.Atoi(x)
			value += string(rune(n))
		}
	case "HEX":
		out, value = arg(1), hex.EncodeToString([]byte(args[0]))
	case "MD5":
		sum := md5.Sum([]byte(arg(1)))
		out, value = args[0], hex.EncodeToString(sum[:])
	case "SHA1":
		sum := sha1.Sum([]byte(arg(1)))
		out, value = args[0], hex.EncodeToString(sum[:])
	case "SHA256":
		sum := sha256.Sum256([]byte(arg(1)))
		out, value = args[0], hex.EncodeToString(sum[:])
	case "SHA512":
		sum := sha512.Sum512([]byte(arg(1)))
		out, value = args[0], hex.EncodeToString(sum[:])
	case "TIMESTAMP", "UUID", "JSON", "SHA224", "SHA384", "SHA3_224", "SHA3_256", "SHA3_384", "SHA3_512":
		out, known = args[0], false
	default: // RANDOM, and what a later CMake has
		known = false
	}
	if out == "" || unknown(out) {
		return
	}
	if !known {
		value = declare.Unknown
	}
	s.set(out, value)
}

// identifier makes a name of C of a text.
func identifier(text string) string {
	out := strings.Map(func(r rune) rune {
		if r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			return r
		}
		return '_'
	}, text)
	if out == "" || out[0] >= '0' && out[0] <= '9' {
		return "_" + out
	}
	return out
}

// configured replaces @NAME@, and ${NAME} unless only is set.
func (s *scope) configured(text string, only bool) string {
	parts := strings.Split(text, "@")
	for i := 1; i+1 < len(parts); i++ {
		if name := parts[i]; name != "" && strings.Trim(name, "_-./+ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789") == "" {
			parts[i-1] += s.value(name) + parts[i+1]
			parts = slices.Delete(parts, i, i+2)
			i--
		}
	}
	text = strings.Join(parts, "@")
	if only {
		return text
	}
	return s.expand(text)
}

// regex follows string(REGEX …).
func (s *scope) regex(w []string) {
	if len(w) < 4 {
		return
	}
	out, input := w[2], strings.Join(w[3:], "")
	if w[0] == "REPLACE" {
		if len(w) < 5 {
			return
		}
		out, input = w[3], strings.Join(w[4:], "")
	}
	if unknown(out) {
		return
	}
	re, err := cmakeRegexp(w[1])
	if w[0] == "REPLACE" && err == nil && !unknown(w[1], w[2]) && unknown(input) { // of a list, item by item
		list := items(input)
		for i, x := range list {
			if !unknown(x) {
				list[i] = replaceAll(re, x, w[2])
			}
		}
		s.setList(out, list)
		return
	}
	if err != nil || unknown(w[1], input) {
		s.set(out, declare.Unknown)
		return
	}
	switch w[0] {
	case "MATCH":
		s.set(out, re.FindString(input))
		s.matched(re, input)
	case "MATCHALL":
		s.setList(out, re.FindAllString(input, 10_000))
	case "REPLACE":
		s.set(out, replaceAll(re, input, w[2]))
	}
}

// math follows math(EXPR …).
func (s *scope) math(w []string) {
	if len(w) < 3 || w[0] != "EXPR" || unknown(w[1]) {
		return
	}
	p := sum{text: w[2]}
	n, ok := p.binary(0)
	if p.blank(); !ok || p.i < len(p.text) || unknown(w[2]) {
		s.set(w[1], declare.Unknown)
		return
	}
	text := strconv.FormatInt(n, 10)
	if i := slices.Index(w, "OUTPUT_FORMAT"); i >= 0 && i+1 < len(w) && w[i+1] == "HEXADECIMAL" {
		text = "0x" + strconv.FormatUint(uint64(n), 16)
	}
	s.set(w[1], text)
}

// A sum is an expression of whole numbers, with the operators of C.
type sum struct {
	text  string
	i     int
	depth int
}

var sumOperators = [][]string{{"|"}, {"^"}, {"&"}, {"<<", ">>"}, {"+", "-"}, {"*", "/", "%"}}

func (p *sum) blank() {
	for p.i < len(p.text) && (p.text[p.i] == ' ' || p.text[p.i] == '\t' || p.text[p.i] == '\n') {
		p.i++
	}
}

func (p *sum) binary(level int) (int64, bool) {
	if level == len(sumOperators) {
		return p.unary()
	}
	n, ok := p.binary(level + 1)
	for ok {
		p.blank()
		op := ""
		for _, o := range sumOperators[level] {
			if strings.HasPrefix(p.text[p.i:], o) {
				op = o
			}
		}
		if op == "" {
			return n, true
		}
		p.i += len(op)
		var m int64
		if m, ok = p.binary(level + 1); !ok {
			break
		}
		switch op {
		case "|":
			n |= m
		case "^":
			n ^= m
		case "&":
			n &= m
		case "<<":
			n <<= uint64(m) & 63
		case ">>":
			n >>= uint64(m) & 63
		case "+":
			n += m
		case "-":
			n -= m
		case "*":
			n *= m
		default:
			if m == 0 {
				return 0, false
			}
			if op == "/" {
				n /= m
			} else {
				n %= m
			}
		}
	}
	return 0, false
}

func (p *sum) unary() (int64, bool) {
	p.blank()
	if p.i >= len(p.text) || p.depth > 100 {
		return 0, false
	}
	p.depth++
	defer func() { p.depth-- }()
	switch p.text[p.i] {
	case '-', '+', '~':
		op := p.text[p.i]
		p.i++
		n, ok := p.unary()
		switch op {
		case '-':
			n = -n
		case '~':
			n = ^n
		}
		return n, ok
	case '(':
		p.i++
		n, ok := p.binary(0)
		p.blank()
		if !ok || p.i >= len(p.text) || p.text[p.i] != ')' {
			return 0, false
		}
		p.i++
		return n, true
	}
	start := p.i
	for p.i < len(p.text) && strings.IndexByte("0123456789abcdefxABCDEFX", p.text[p.i]) >= 0 {
		p.i++
	}
	n, err := strconv.ParseInt(p.text[start:p.i], 0, 64)
	return n, err == nil
}
