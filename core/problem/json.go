package problem

import (
	"bytes"
	"encoding/json"
	"strconv"

	"tidytally/core/printable"
)

// AppendJSON appends the problem as encoding/json writes it, without escapes for
// HTML, and returns the longer slice. It is here because a long log has hundreds
// of thousands of problems, of whose texts nearly none needs an escape.
func (p *Problem) AppendJSON(b []byte) []byte {
	b = append(b, `{"seq":`...)
	b = strconv.AppendInt(b, int64(p.Seq), 10)
	b = p.Place.appendJSON(b)
	b = appendString(append(b, `,"severity":`...), p.Severity.String())
	if p.Code != "" {
		b = appendString(append(b, `,"code":`...), p.Code)
	}
	b = appendString(append(b, `,"message":`...), p.Message)
	if p.Test != "" {
		b = appendString(append(b, `,"test":`...), p.Test)
	}
	if len(p.Related) > 0 {
		b = append(b, `,"related":[`...)
		for i := range p.Related {
			start := len(b)
			b = p.Related[i].Place.appendJSON(b)
			if message := p.Related[i].Message; message != "" {
				b = appendString(append(b, `,"message":`...), message)
			}
			if len(b) == start {
				b = append(b, ',')
			}
			b[start] = '{' // for the first comma
			b = append(b, "},"...)
		}
		b[len(b)-1] = ']'
	}
	b = appendString(append(b, `,"family":`...), p.Family)
	if p.FoundByName {
		b = append(b, `,"foundByName":true`...)
	}
	if len(p.MayBe) > 0 {
		b = append(b, `,"mayBe":[`...)
		for _, file := range p.MayBe {
			b = append(appendString(b, file), ',')
		}
		b[len(b)-1] = ']'
	}
	b = strconv.AppendInt(append(b, `,"times":`...), int64(p.Times), 10)
	b = strconv.AppendInt(append(b, `,"output":{"firstLine":`...), int64(p.Output.FirstLine), 10)
	b = strconv.AppendInt(append(b, `,"lastLine":`...), int64(p.Output.LastLine), 10)
	b = strconv.AppendInt(append(b, `,"startByte":`...), p.Output.StartByte, 10)
	b = strconv.AppendInt(append(b, `,"endByte":`...), p.Output.EndByte, 10)
	return append(b, "}}"...)
}

// appendJSON appends the members of a place, a comma before each.
func (p *Place) appendJSON(b []byte) []byte {
	if p.File != "" {
		b = appendString(append(b, `,"file":`...), p.File)
	}
	if p.Line != 0 {
		b = strconv.AppendInt(append(b, `,"line":`...), int64(p.Line), 10)
	}
	if p.Column != 0 {
		b = strconv.AppendInt(append(b, `,"column":`...), int64(p.Column), 10)
	}
	if p.EndLine != 0 {
		b = strconv.AppendInt(append(b, `,"endLine":`...), int64(p.EndLine), 10)
	}
	if p.EndColumn != 0 {
		b = strconv.AppendInt(append(b, `,"endColumn":`...), int64(p.EndColumn), 10)
	}
	return b
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

// escaped are the bytes that a JSON string may not hold unchanged, or not always.
var escaped = func() (is [256]bool) {
	for c := range is {
		is[c] = c < ' ' || c == '"' || c == '\\' || c >= 0x7f
	}
	return is
}()

func appendEscaped(b []byte, s string) []byte {
	out := bytes.NewBuffer(b)
	enc := json.NewEncoder(out)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(s) // a string and a buffer never fail
	return append(b, printable.EscapeJSON(bytes.TrimSuffix(out.Bytes()[len(b):], []byte("\n")))...)
}
