package task

import (
	"fmt"
	"strings"
)

// Quote writes a word so that a POSIX shell reads it back as it is.
func Quote(word string) string {
	if word == "" {
		return "''"
	}
	plain := true
	for i := 0; i < len(word) && plain; i++ {
		c := word[i]
		plain = c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("-_./:=@%+,", c) >= 0 || c >= 0x80
	}
	// Braces are plain to the shell, but for a word that is one or that lists.
	if !plain && len(word) > 2 && !strings.ContainsAny(word, ",") && !strings.Contains(word, "..") {
		rest := strings.NewReplacer("{", "", "}", "").Replace(word)
		plain = rest != "" && rest != word && Quote(rest) == rest
	}
	if plain {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// QuoteAll quotes the words and joins them with spaces.
func QuoteAll(words []string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = Quote(w)
	}
	return strings.Join(quoted, " ")
}

// SplitWords splits a line into words as a POSIX shell does, without any
// expansion: quotes and backslashes are understood, nothing else. A quote that
// is not closed is an error.
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
