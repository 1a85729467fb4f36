package jsontext

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
)

// plain turns a value into what encoding/json gives for the same text.
func plain(v *Value) any {
	switch v.Kind {
	case String:
		return v.Text
	case Number:
		return json.Number(v.Text)
	case Bool:
		return v.Text == "true"
	case Array:
		out := []any{}
		for _, item := range v.Items {
			out = append(out, plain(item))
		}
		return out
	case Object:
		out := map[string]any{}
		for _, m := range v.Members {
			out[m.Key] = plain(m.Value)
		}
		return out
	}
	return nil
}

// What the standard library reads, we read alike.
func TestAgainstTheStandardLibrary(t *testing.T) {
	for _, text := range []string{
		`{}`, `[]`, `null`, `"x"`, `-1.5e3`, `true`, `[1, [2, {"a": []}], "b"]`, `{"a": {"b": null}, "a": 2}`,
		`"\u00e9\ud83d\ude00\n\t\"\\\/\b\f\r"`, `"\ud83d alone"`, "{\r\n\t\"k\" : \"v\"\r\n}", `["é日本"]`, `{"": 0}`, "  [ ]  ",
	} {
		d := json.NewDecoder(strings.NewReader(text))
		d.UseNumber()
		var want any
		if err := d.Decode(&want); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		v, err := Parse([]byte(text), false)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got := plain(v); !reflect.DeepEqual(got, want) {
			t.Errorf("%s: got %#v, want %#v", text, got, want)
		}
	}
}

func TestMistakesHaveTheirPlaceAndKeepWhatStandsBefore(t *testing.T) {
	for _, c := range []struct{ text, at, keeps string }{
		{"{\"a\": 1,\n \"b\": }", "2:7: a value should stand here, not '}'", "a"},
		{"{\"a\": 1,\n \"é\" 2}", `2:6: a colon should stand behind the key "é"`, "a"},
		{"{\"a\": 1\n \"b\": 2}", `2:2: a comma or a closing brace should stand behind the value of "a"`, "a"},
		{"{\"a\": 1,}", "1:9: a comma stands before the closing brace", "a"},
		{"{\"a\": 1, b: 2}", "1:10: a key in double quotes should stand here, not 'b'", "a"},
		{"{\"a\": [1, 2", "1:12: a comma or a closing bracket should stand here", "a"},
		{"{\"a\": \"x\ny\"}", "1:7: the string that begins here is not closed on its line", ""},
		{"{\"a\": 1} more", "1:10: more text behind the end of the value", "a"},
		{"{\"a\": 1, \"b\": 1.2.3}", "1:15: 1.2.3 is no number", "a"},
		{"", "1:1: the file is empty", ""},
		{"\ufeff[1,]", "1:4: a value should stand here, not ']'", ""},
	} {
		v, err := Parse([]byte(c.text), false)
		if err == nil || err.Error() != c.at {
			t.Errorf("%q: error %v, want %s", c.text, err, c.at)
		}
		if c.keeps != "" && v.Get(c.keeps) == nil {
			t.Errorf("%q: what stands before the mistake is lost", c.text)
		}
	}
}

func TestCommentsAndTrailingCommas(t *testing.T) {
	text := "// first\n{ /* a \" } */ \"a\": [1, 2,], // \"no\": 1\n \"b\": \"// no comment\",\n}\n/* end */"
	v, err := Parse([]byte(text), true)
	if err != nil || len(v.Get("a").Items) != 2 || v.Get("b").Str() != "// no comment" || v.Get("no") != nil {
		t.Errorf("%v %+v", err, v)
	}
	if _, err := Parse([]byte(text), false); err == nil {
		t.Error("strict JSON has no comments")
	}
	if _, err := Parse([]byte("{} /* open"), true); err == nil || !strings.Contains(err.Error(), "comment is not closed") {
		t.Errorf("an open comment: %v", err)
	}
}

func TestPlaces(t *testing.T) {
	data := []byte("\ufeffab\nç日x\n\nend")
	p := NewPlaces(data)
	for offset, want := range map[int][2]int{3: {1, 1}, 4: {1, 2}, 6: {2, 1}, 8: {2, 2}, 11: {2, 3}, 13: {3, 1}, 14: {4, 1}, 17: {4, 4}, 99: {4, 4}, -1: {1, 1}} {
		if line, column := p.At(offset); line != want[0] || column != want[1] {
			t.Errorf("offset %d: %d:%d, want %v", offset, line, column, want)
		}
	}
}

func TestDepthIsBounded(t *testing.T) {
	for _, open := range []string{"[", `{"a":`} {
		if _, err := Parse([]byte(strings.Repeat(open, 1<<20)), true); err == nil || !strings.Contains(err.Error(), "nested more than") {
			t.Errorf("%s: %v", open, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(`{"a":[1,"\u00e9",{}],"b":null}`))
	f.Add([]byte("// x\n[1,]"))
	f.Add([]byte("\"\x86\xaf\""))
	f.Fuzz(func(t *testing.T, data []byte) {
		v, err := Parse(data, false)
		var want any
		d := json.NewDecoder(strings.NewReader(string(data)))
		d.UseNumber()
		if json.Valid(data) && d.Decode(&want) == nil {
			if err != nil {
				t.Fatalf("%q: %v", data, err)
			}
			if got := plain(v); !reflect.DeepEqual(got, want) {
				t.Errorf("%q: got %#v, want %#v", data, got, want)
			}
		}
		if e, ok := err.(*Error); ok && (e.Line < 1 || e.Column < 1) {
			t.Errorf("%q: the mistake has no place: %v", data, e)
		}
		Parse(data, true)
	})
}
