package problem

import (
	"bytes"
	"encoding/json"
	"strconv"
)

// AppendJSON appends the problem as encoding/json writes it, without escapes for
// HTML, and returns the longer slice. It is here because a long log has hundreds
// of thousands of problems, of whose texts nearly none needs an escape.
func (p *Problem) AppendJSON(b []byte) []byte {
	b = append(b, `{"seq":`...)
	b = strconv.AppendInt(b, int64(p.Seq), 10)
	b = p.Place.appendJSON(b)
	b = appendString(appendName(b, "severity"), p.Severity.String())
	if p.Code != "" {
		b = appendString(appendName(b, "code"), p.Code)
	}
	b = appendString(appendName(b, "message"), p.Message)
	if len(p.Related) > 0 {
		b = append(appendName(b, "related"), '[')
		for _, r := range p.Related {
			b = r.Place.appendJSON(append(b, '{'))
			if r.Message != "" {
				b = appendString(appendName(b, "message"), r.Message)
			}
			b = append(b, "},"...)
		}
		b[len(b)-1] = ']'
	}
	b = appendString(appendName(b, "family"), p.Family)
	if p.FoundByName {
		b = append(appendName(b, "foundByName"), "true"...)
	}
	if len(p.MayBe) > 0 {
		b = append(appendName(b, "mayBe"), '[')
		for _, file := range p.MayBe {
			b = append(appendString(b, file), ',')
		}
		b[len(b)-1] = ']'
	}
	b = strconv.AppendInt(appendName(b, "times"), int64(p.Times), 10)
	b = append(appendName(b, "output"), '{')
	b = strconv.AppendInt(appendName(b, "firstLine"), int64(p.Output.FirstLine), 10)
	b = strconv.AppendInt(appendName(b, "lastLine"), int64(p.Output.LastLine), 10)
	b = strconv.AppendInt(appendName(b, "startByte"), p.Output.StartByte, 10)
	b = strconv.AppendInt(appendName(b, "endByte"), p.Output.EndByte, 10)
	return append(b, "}}"...)
}

func (p *Place) appendJSON(b []byte) []byte {
	if p.File != "" {
		b = appendString(appendName(b, "file"), p.File)
	}
	if p.Line != 0 {
		b = strconv.AppendInt(appendName(b, "line"), int64(p.Line), 10)
	}
	if p.Column != 0 {
		b = strconv.AppendInt(appendName(b, "column"), int64(p.Column), 10)
	}
	if p.EndLine != 0 {
		b = strconv.AppendInt(appendName(b, "endLine"), int64(p.EndLine), 10)
	}
	if p.EndColumn != 0 {
		b = strconv.AppendInt(appendName(b, "endColumn"), int64(p.EndColumn), 10)
	}
	return b
}

// appendName appends the name of a member of an object.
func appendName(b []byte, name string) []byte {
	if b[len(b)-1] != '{' {
		b = append(b, ',')
	}
	b = append(append(b, '"'), name...)
	return append(b, `":`...)
}

func appendString(b []byte, s string) []byte {
	for i := 0; i < len(s); i++ {
		if escaped[s[i]] {
			return appendEscaped(b, s)
		}
	}
	b = append(append(b, '"'), s...)
	return append(b, '"')
}

// escaped are the bytes that do not stand in a JSON text as they are, or not in
// every text.
var escaped = func() (is [256]bool) {
	for c := range is {
		is[c] = c < ' ' || c == '"' || c == '\\' || c >= 0x80
	}
	return is
}()

func appendEscaped(b []byte, s string) []byte {
	out := bytes.NewBuffer(b)
	enc := json.NewEncoder(out)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(s) // a string and a buffer never fail
	return bytes.TrimSuffix(out.Bytes(), []byte("\n"))
}
