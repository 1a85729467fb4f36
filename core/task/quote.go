package task

import (
	"fmt"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// Quote returns a word as a POSIX shell reads it back. An interactive shell does
// too: a word with a "!" is in single quotes.
func Quote(word string) string {
	// A shell leaves braces unchanged unless they are a whole word or a list.
	if strings.ContainsAny(word, "{}") && !strings.Contains(word, ",") && !strings.Contains(word, "..") {
		bare := strings.NewReplacer("{", "", "}", "").Replace(word)
		if bare != "" && Quote(bare) == bare {
			return word
		}
	}
	quoted, err := syntax.Quote(word, syntax.LangPOSIX)
	if err != nil || strings.ContainsRune(word, '!') && strings.HasPrefix(quoted, `"`) {
		// POSIX has no escapes for control characters.
		return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
	}
	return quoted
}

// QuoteArgument is Quote for a word that is not the first of a command: of
// arguments such as BOARD=mk2 and --in=a b only the value is quoted.
func QuoteArgument(word string) string {
	name, value, ok := strings.Cut(word, "=")
	switch {
	case !ok || name == "" || Quote(name) != name:
		return Quote(word)
	case value == "":
		return word
	}
	return name + "=" + Quote(value)
}

// QuoteAll quotes the words of a command and joins them with spaces.
func QuoteAll(words []string) string {
	if len(words) == 0 {
		return ""
	}
	// NAME=value in the first place would be an assignment.
	return strings.TrimSuffix(Quote(words[0])+" "+QuoteArguments(words[1:]), " ")
}

// QuoteArguments quotes the arguments of a command and joins them with spaces.
func QuoteArguments(words []string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = QuoteArgument(w)
	}
	return strings.Join(quoted, " ")
}

// SplitWords splits a line into words as a POSIX shell does, but expands nothing: it
// understands quotes and backslashes. An open quote is an error.
func SplitWords(line string) ([]string, error) {
	var words []string
	var word strings.Builder
	in := false
	for i := 0; i < len(line); i++ {
		switch c := line[i]; c {
		case ' ', '\t', '\n':
			if in {
				words = append(words, word.String())
				word.Reset()
				in = false
			}
		case '\'':
			in = true
			j := strings.IndexByte(line[i+1:], '\'')
			if j < 0 {
				return words, fmt.Errorf("the quote ' at character %d is not closed", i+1)
			}
			word.WriteString(line[i+1 : i+1+j])
			i += j + 1
		case '"':
			in = true
			start := i
			for i++; i < len(line) && line[i] != '"'; i++ {
				if line[i] == '\\' && i+1 < len(line) && strings.IndexByte("\"\\$`\n", line[i+1]) >= 0 {
					i++
				}
				word.WriteByte(line[i])
			}
			if i >= len(line) {
				return words, fmt.Errorf("the quote \" at character %d is not closed", start+1)
			}
		case '\\':
			in = true
			if i+1 < len(line) {
				i++
				word.WriteByte(line[i])
			}
		default:
			in = true
			word.WriteByte(c)
		}
	}
	if in {
		words = append(words, word.String())
	}
	return words, nil
}
