package problem

import (
	"bytes"
	"encoding/json"
	"testing"

	"tidytally/core/printable"
)

// AppendJSON writes the same as encoding/json, with escapes for what a terminal
// would obey, and reads as the same.
func FuzzAppendJSON(f *testing.F) {
	f.Add("kiln/coil.c", "unused 'x'", "unused", 314, 159, 0, true)
	f.Add("a\"b.c", "m", "c", 77, 10, 3, true)
	f.Add("", "a \"quoted\"\n\tmessage <b>&amp;\u2028 of glaze ö \xff\x00\x7f\\", "", 0, 0, 2, false)
	f.Fuzz(func(t *testing.T, file, message, code string, line, column, related int, byName bool) {
		p := Problem{
			Seq: line, Place: Place{File: file, Line: line, Column: column, EndLine: column, EndColumn: line},
			Severity: Severity(uint(column) % 3), Code: code, Message: message, Family: "gnu", FoundByName: byName, Times: 1,
			Output: Span{FirstLine: line, LastLine: column, StartByte: int64(line), EndByte: 1 << 40},
		}
		for range uint(related) % 4 {
			p.Related = append(p.Related, Related{Place: Place{File: file, Line: column}, Message: code}, Related{Message: message}, Related{Place: p.Place})
			p.MayBe = append(p.MayBe, file, message)
		}
		var want bytes.Buffer
		enc := json.NewEncoder(&want)
		enc.SetEscapeHTML(false)
		if err := enc.Encode(p); err != nil {
			t.Fatal(err)
		}
		if got := append(p.AppendJSON([]byte("x"))[1:], '\n'); !bytes.Equal(got, printable.EscapeJSON(want.Bytes())) {
			t.Errorf("got\n%s\nwant\n%s", got, want.Bytes())
		}
	})
}
