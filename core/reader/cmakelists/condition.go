package cmakelists

import (
	"cmp"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Conditions of if and while (cmake-commands(7), if).

// condition evaluates a condition; known is false if it cannot be decided.
func (c *cmakeReader) condition(args []cmakeArg, s *scope) (yes, known bool) {
	p := cmakeCondition{scope: s}
	for _, a := range args { // an argument without quotes may be several
		if a.quoted || a.raw || strings.IndexByte(a.text, '$') < 0 {
			p.args = append(p.args, a)
			continue
		}
		for _, w := range items(s.expand(a.text)) {
			p.args = append(p.args, cmakeArg{text: w, raw: true})
		}
	}
	if len(p.args) == 0 {
		return false, true
	}
	yes, known = p.or()
	if p.i < len(p.args) {
		return false, false
	}
	return yes, known
}

type cmakeCondition struct {
	scope *scope
	args  []cmakeArg
	i     int
}

func (p *cmakeCondition) peek() string {
	if p.i < len(p.args) && !p.args[p.i].quoted {
		return p.args[p.i].text
	}
	return ""
}

func (p *cmakeCondition) or() (yes, known bool) {
	yes, known = p.and()
	for p.peek() == "OR" {
		p.i++
		y, k := p.and()
		switch {
		case yes && known || y && k:
			yes, known = true, true
		case !known || !k:
			yes, known = false, false
		}
	}
	return yes, known
}

func (p *cmakeCondition) and() (yes, known bool) {
	yes, known = p.not()
	for p.peek() == "AND" {
		p.i++
		y, k := p.not()
		switch {
		case known && !yes || k && !y:
			yes, known = false, true
		case !known || !k:
			yes, known = false, false
		}
	}
	return yes, known
}

func (p *cmakeCondition) not() (yes, known bool) {
	switch p.peek() {
	case "NOT":
		p.i++
		y, k := p.not()
		return !y && k, k
	case "(":
		p.i++
		yes, known = p.or()
		if p.peek() == ")" {
			p.i++
		}
		return yes, known
	}
	return p.test()
}

var cmakeFalse = []string{"", "0", "OFF", "NO", "FALSE", "N", "IGNORE", "NOTFOUND"}

func cmakeTruth(s string) bool {
	u := strings.ToUpper(s)
	return !slices.Contains(cmakeFalse, u) && !strings.HasSuffix(u, "-NOTFOUND")
}

// isConstant reports whether a text is true or false whatever variables there are.
func isConstant(s string) bool {
	switch strings.ToUpper(s) {
	case "1", "ON", "YES", "TRUE", "Y", "0", "OFF", "NO", "FALSE", "N", "IGNORE", "NOTFOUND", "":
		return true
	}
	_, err := strconv.ParseFloat(s, 64)
	return err == nil || strings.HasSuffix(strings.ToUpper(s), "-NOTFOUND")
}

// text returns the text of an argument, expanded.
func (p *cmakeCondition) text(a cmakeArg) string {
	if a.raw {
		return a.text
	}
	return p.scope.expand(a.text)
}

func (p *cmakeCondition) test() (yes, known bool) {
	if p.i >= len(p.args) {
		return false, false
	}
	word := p.peek()
	switch word {
	case "TARGET", "COMMAND", "POLICY", "EXISTS", "TEST", "IS_DIRECTORY", "IS_ABSOLUTE", "IS_SYMLINK", "DEFINED":
		if p.i+1 < len(p.args) {
			p.i += 2
			return p.ask(word, p.text(p.args[p.i-1]))
		}
	}
	left := p.args[p.i]
	p.i++
	op := p.peek()
	if compares[op] && p.i+1 < len(p.args) {
		right := p.args[p.i+1]
		p.i += 2
		return p.compare(left, op, right)
	}
	text := p.text(left)
	if unknown(text) {
		return false, false
	}
	if isConstant(text) {
		return cmakeTruth(text), true
	}
	if left.quoted {
		return false, true // a text that is no constant (CMP0054)
	}
	v := p.scope.value(text)
	if unknown(v) {
		return false, false
	}
	return cmakeTruth(v), true
}

// ask answers a question about one thing.
func (p *cmakeCondition) ask(word, text string) (yes, known bool) {
	c := p.scope.reader
	if unknown(text) {
		return false, false
	}
	switch word {
	case "COMMAND":
		_, defined := c.functions[strings.ToLower(text)]
		defined = defined || ownCommands[strings.ToLower(text)]
		return defined, defined || len(c.packages) == 0 && !c.opaque && !strings.HasPrefix(text, "_")
	case "TARGET":
		there := c.names[text] || c.aliases[text]
		return there, there || !c.opaque && (len(c.packages) == 0 || !strings.Contains(text, "::"))
	case "EXISTS", "IS_DIRECTORY":
		rel, inside := c.rel(text)
		if !inside || c.inBuild(rel) {
			return false, false
		}
		if word == "EXISTS" {
			return c.file.Exists(rel), true
		}
		return c.file.Exists(rel) && len(c.file.List(rel)) > 0, true
	case "POLICY":
		return true, true
	case "IS_ABSOLUTE":
		return path.IsAbs(text), true
	case "TEST":
		return c.names["test "+text], true
	case "DEFINED":
		if name, ok := strings.CutPrefix(text, "CACHE{"); ok {
			_, set := c.cached(strings.TrimSuffix(name, "}"))
			return set, set
		}
		if name, ok := strings.CutPrefix(text, "ENV{"); ok {
			return false, !everywhere[strings.TrimSuffix(name, "}")]
		}
		v, set := p.scope.get(text)
		if set && v != "\x00" {
			return true, true
		}
		return false, !set && !c.mayBeSet(text)
	}
	return false, false
}

// ownCommands are CMake's own (cmake-commands(7)).
var ownCommands = func() map[string]bool {
	set := map[string]bool{}
	for name := range strings.FieldsSeq("add_compile_definitions add_compile_options add_custom_command add_custom_target add_definitions add_dependencies add_executable add_library add_link_options add_subdirectory add_test aux_source_directory block break build_command cmake_host_system_information cmake_language cmake_minimum_required cmake_parse_arguments cmake_path cmake_policy configure_file continue create_test_sourcelist define_property enable_language enable_testing execute_process export file find_file find_library find_package find_path find_program foreach function get_cmake_property get_directory_property get_filename_component get_property get_source_file_property get_target_property get_test_property if include include_directories include_external_msproject include_guard include_regular_expression install link_directories link_libraries list load_cache macro mark_as_advanced math message option project return separate_arguments set set_directory_properties set_property set_source_files_properties set_target_properties set_tests_properties site_name source_group string target_compile_definitions target_compile_features target_compile_options target_include_directories target_link_directories target_link_libraries target_link_options target_precompile_headers target_sources try_compile try_run unset variable_watch while") {
		set[name] = true
	}
	return set
}()

var compares = map[string]bool{
	"STREQUAL": true, "EQUAL": true, "MATCHES": true, "VERSION_LESS": true, "VERSION_GREATER": true, "VERSION_EQUAL": true, "VERSION_LESS_EQUAL": true, "VERSION_GREATER_EQUAL": true,
	"LESS": true, "GREATER": true, "LESS_EQUAL": true, "GREATER_EQUAL": true, "STRLESS": true, "STRGREATER": true, "STRLESS_EQUAL": true, "STRGREATER_EQUAL": true, "IN_LIST": true, "PATH_EQUAL": true, "IS_NEWER_THAN": true,
}

// compare evaluates an operator with two operands.
func (p *cmakeCondition) compare(l cmakeArg, op string, r cmakeArg) (yes, known bool) {
	left := p.operand(l)
	if op == "IN_LIST" {
		list := p.scope.list(p.text(r))
		if unknown(left) {
			return false, false
		}
		in := slices.Contains(list, left)
		return in, in || !unknown(list...)
	}
	right := p.text(r)
	if op != "MATCHES" {
		right = p.operand(r)
	}
	if unknown(left, right) {
		return false, false
	}
	switch op {
	case "STREQUAL":
		return left == right, true
	case "PATH_EQUAL":
		return path.Clean(left) == path.Clean(right), true
	case "EQUAL":
		l, r, ok := numbers(left, right)
		return ok && l == r, true
	case "MATCHES":
		re, err := cmakeRegexp(right)
		if err != nil {
			return false, false
		}
		p.scope.matched(re, left)
		return re.MatchString(left), true
	case "IS_NEWER_THAN":
		return false, false
	}
	if plain, ok := strings.CutPrefix(op, "VERSION_"); ok {
		return ordered(compareVersions(left, right), plain), true
	}
	if plain, ok := strings.CutPrefix(op, "STR"); ok {
		return ordered(cmp.Compare(left, right), plain), true
	}
	if l, r, ok := numbers(left, right); ok {
		return ordered(cmp.Compare(l, r), op), true
	}
	return false, true
}

// operand returns the value of an operand: of the variable that it names, if it is not quoted and there is one.
func (p *cmakeCondition) operand(a cmakeArg) string {
	text := p.text(a)
	if a.quoted {
		return text
	}
	if v, set := p.scope.get(text); set {
		return v
	}
	if p.scope.reader.mayBeSet(text) {
		return "\x00"
	}
	return text
}

// matched sets CMAKE_MATCH_ of a match.
func (s *scope) matched(re *regexp.Regexp, text string) {
	parts := re.FindStringSubmatch(text)
	if parts == nil {
		return
	}
	for i, part := range parts {
		s.set("CMAKE_MATCH_"+strconv.Itoa(i), part)
	}
	s.set("CMAKE_MATCH_COUNT", strconv.Itoa(len(parts)-1))
}

// cmakeRegexp compiles an expression of CMake's (cmake-commands(7), string, "Regex Specification").
func cmakeRegexp(text string) (*regexp.Regexp, error) {
	var b strings.Builder
	b.WriteString("(?s)") // a full stop matches the end of a line too
	in := false           // in brackets, where a backslash is one
	for i := 0; i < len(text); i++ {
		switch ch := text[i]; {
		case in && ch == ']' && text[i-1] != '[' && !strings.HasSuffix(text[:i], "[^"):
			in = false
			b.WriteByte(ch)
		case in && (ch == '\\' || ch == '['):
			b.WriteByte('\\')
			b.WriteByte(ch)
		case ch == '[' && !in:
			in = true
			b.WriteByte(ch)
		case ch == '\\' && i+1 < len(text):
			i++
			b.WriteString(regexp.QuoteMeta(text[i : i+1]))
		case ch == '{' || ch == '}':
			b.WriteByte('\\')
			b.WriteByte(ch)
		default:
			b.WriteByte(ch)
		}
	}
	return regexp.Compile(b.String())
}

// compareVersions compares versions part by part (cmake-language(7), if, "Version
// Comparisons").
func compareVersions(a, b string) int {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		part := func(parts []string) (n int) {
			if i < len(parts) {
				for _, r := range parts[i] {
					if r < '0' || r > '9' || n > 1e8 {
						break
					}
					n = 10*n + int(r-'0')
				}
			}
			return n
		}
		if d := cmp.Compare(part(x), part(y)); d != 0 {
			return d
		}
	}
	return 0
}

// numbers reads two operands as numbers.
func numbers(a, b string) (x, y float64, ok bool) {
	x, err1 := strconv.ParseFloat(a, 64)
	y, err2 := strconv.ParseFloat(b, 64)
	return x, y, err1 == nil && err2 == nil
}

// ordered reports whether a comparison is what an operator asks for.
func ordered(d int, op string) bool {
	switch strings.TrimPrefix(op, "_") {
	case "LESS":
		return d < 0
	case "GREATER":
		return d > 0
	case "EQUAL":
		return d == 0
	case "LESS_EQUAL":
		return d <= 0
	}
	return d >= 0
}
