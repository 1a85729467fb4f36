// Package filter is the query language for tasks and problems: words that match
// fuzzily, fields (kind:build), a minus for "not", and quotes for a text with blanks
// or an exact one.
package filter

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Query is a parsed filter.
type Query struct {
	terms []term
}

type term struct {
	field string // "" for a word
	text  string // lower case
	not   bool
	exact bool // was quoted: no fuzzy match
}

// Subject is what a query is matched against.
type Subject interface {
	// Field returns the texts of a field; ok is false if there is no such field.
	Field(name string) (texts []string, ok bool)
	// Title is matched fuzzily by words and carries the mark.
	Title() string
	// Rest are further texts in which a word may occur exactly.
	Rest() []string
}

// Parse reads a filter. It never fails: a field that nobody knows is a word.
func Parse(text string, fields ...string) Query {
	var q Query
	for _, w := range split(text) {
		t := w
		if len(t.text) > 1 && t.text[0] == '-' && !t.exact {
			t.not, t.text = true, t.text[1:]
		}
		if i := strings.IndexByte(t.text, ':'); i > 0 && !w.exactStart {
			for _, f := range fields {
				if f == strings.ToLower(t.text[:i]) {
					t.field, t.text = f, t.text[i+1:]
					break
				}
			}
		}
		if t.text == "" {
			continue
		}
		q.terms = append(q.terms, term{t.field, strings.ToLower(t.text), t.not, t.exact})
	}
	return q
}

type word struct {
	text       string
	field      string
	not        bool
	exact      bool // has a quoted part
	exactStart bool // begins with a quote
}

func split(text string) (words []word) {
	var w word
	var b strings.Builder
	in := false
	flush := func() {
		if in {
			w.text = b.String()
			words = append(words, w)
		}
		w, in = word{}, false
		b.Reset()
	}
	quote := false
	for _, r := range text {
		switch {
		case r == '"':
			if !in {
				w.exactStart = true
			}
			quote, in, w.exact = !quote, true, true
		case unicode.IsSpace(r) && !quote:
			flush()
		default:
			b.WriteRune(r)
			in = true
		}
	}
	flush()
	return words
}

// Empty reports whether the query passes everything.
func (q Query) Empty() bool { return len(q.terms) == 0 }

// Match reports whether the subject passes. score is higher for a better match;
// marks are the bytes of its title that the words hit.
func (q Query) Match(s Subject) (score int, marks []int, ok bool) {
	for _, t := range q.terms {
		points, hit, found := t.match(s)
		if found == t.not {
			return 0, nil, false
		}
		if !t.not {
			score += points
			marks = append(marks, hit...)
		}
	}
	return score, marks, true
}

// Passes reports whether the subject passes; it is faster than Match.
func (q Query) Passes(s Subject) bool {
	for _, t := range q.terms {
		found := t.field == "" && containsFold(s.Title(), t.text)
		if !found {
			_, _, found = t.match(s)
		}
		if found == t.not {
			return false
		}
	}
	return true
}

// Plainly reports whether each word of the query stands at the start of a word in one of
// the texts. Fields and what is excluded do not count.
func (q Query) Plainly(texts ...string) bool {
	for _, t := range q.terms {
		if t.field != "" || t.not {
			continue
		}
		if !slices.ContainsFunc(texts, func(x string) bool { return startsWord(x, t.text) }) {
			return false
		}
	}
	return true
}

func startsWord(text, word string) bool {
	for from := 0; from < len(text); {
		i := indexFold(text[from:], word)
		if i < 0 {
			return false
		}
		if i += from; i == 0 || !isWord(text[i-1]) {
			return true
		}
		from = i + 1
	}
	return false
}

// Fields returns the texts that the query asks for in a field, and under "" its words.
func (q Query) Fields(field string) (texts []string) {
	for _, t := range q.terms {
		if t.field == field {
			texts = append(texts, t.text)
		}
	}
	return texts
}

func (t term) match(s Subject) (points int, marks []int, ok bool) {
	if t.field != "" {
		texts, _ := s.Field(t.field)
		for _, x := range texts {
			if i := indexFold(x, t.text); i == 0 || i > 0 && t.field != "is" { // running is not long-running
				ok = true
				if len(x) == len(t.text) {
					return 100, nil, true // all of it
				}
			}
		}
		return 1, nil, ok
	}
	title := s.Title()
	if i := indexFold(title, t.text); i >= 0 {
		points = 100 - min(i, 30)
		if i == 0 || !isWord(title[i-1]) {
			points += 50
		}
		if len(title) == len(t.text) {
			points += 100
		}
		for k := range t.text {
			marks = append(marks, i+k)
		}
		return points, marks, true
	}
	if !t.exact {
		if marks, points, ok = subsequence(title, t.text); ok {
			return points, marks, true
		}
	}
	for _, x := range s.Rest() {
		if containsFold(x, t.text) {
			return 10, nil, true
		}
	}
	return 0, nil, false
}

func isWord(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= utf8.RuneSelf
}

// subsequence finds the letters of a word in order in a title. It must begin
// at the start of a part of the title, and prefers starts of parts.
func subsequence(title, text string) (marks []int, points int, ok bool) {
	if len(text) < 2 {
		return nil, 0, false
	}
	from := 0
	for j := 0; j < len(text); j++ {
		at := -1
		for i := from; i < len(title); i++ {
			if lower(title[i]) != text[j] {
				continue
			}
			if start := i == 0 || !isWord(title[i-1]); start {
				// The start of a part is taken when the rest can still follow.
				if inOrder(title[i+1:], text[j+1:]) {
					at = i
					points += 10
					break
				}
			} else if at < 0 && j > 0 {
				at = i
			}
		}
		if at < 0 {
			return nil, 0, false
		}
		if len(marks) > 0 && marks[len(marks)-1] == at-1 {
			points += 5
		}
		marks = append(marks, at)
		from = at + 1
	}
	return marks, 20 + points - min(len(title), 40)/4, true
}

// inOrder reports whether the letters of a text come in order.
func inOrder(title, text string) bool {
	j := 0
	for i := 0; i < len(title) && j < len(text); i++ {
		if lower(title[i]) == text[j] {
			j++
		}
	}
	return j == len(text)
}

func lower(c byte) byte {
	if c >= 'A' && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

func containsFold(s, lowered string) bool { return indexFold(s, lowered) >= 0 }

// indexFold finds a lower-case text, with the letters A to Z taken as small.
func indexFold(s, lowered string) int {
	if lowered == "" {
		return 0
	}
	first := lowered[0]
	for i := 0; i+len(lowered) <= len(s); i++ {
		if lower(s[i]) != first {
			continue
		}
		k := 1
		for k < len(lowered) && lower(s[i+k]) == lowered[k] {
			k++
		}
		if k == len(lowered) {
			return i
		}
	}
	return -1
}
