// Package pack turns values into bytes and back, fast: for what the same program wrote shortly
// before. A struct takes a byte for itself and one for each of its exported fields that is not
// zero. The strings that are read share the text that they are read from.
//
// It holds booleans, integers, strings, slices, maps with keys of strings, pointers that are not
// nil, and structs of these.
package pack

import (
	"encoding/binary"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"
)

var errText = errors.New("pack: not what Append wrote")

// maxAhead is how many elements are allocated before they are read.
const maxAhead = 64

// Append appends a value. It panics if the value holds one of a type that it does not know.
func Append[T any](out []byte, v *T) []byte { return appendValue(out, reflect.ValueOf(v).Elem()) }

// Read reads a value that Append wrote; text must end with it.
func Read[T any](text string, into *T) error {
	rest, err := read(text, reflect.ValueOf(into).Elem())
	if err == nil && rest != "" {
		err = errText
	}
	return err
}

// fields are the indices of the exported fields of struct types.
var fields sync.Map

func fieldsOf(t reflect.Type) []int {
	if known, ok := fields.Load(t); ok {
		return known.([]int)
	}
	list := []int{}
	for i := range t.NumField() {
		if t.Field(i).IsExported() {
			list = append(list, i)
		}
	}
	fields.Store(t, list)
	return list
}

func appendValue(out []byte, v reflect.Value) []byte {
	switch v.Kind() {
	case reflect.Bool:
		if v.Bool() {
			return append(out, 1)
		}
		return append(out, 0)
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return binary.AppendVarint(out, v.Int())
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return binary.AppendUvarint(out, v.Uint())
	case reflect.String:
		return append(binary.AppendUvarint(out, uint64(v.Len())), v.String()...)
	case reflect.Slice:
		out = binary.AppendUvarint(out, uint64(v.Len()))
		for i := range v.Len() {
			out = appendValue(out, v.Index(i))
		}
		return out
	case reflect.Map:
		out = binary.AppendUvarint(out, uint64(v.Len()))
		keys := v.MapKeys()
		slices.SortFunc(keys, func(a, b reflect.Value) int { return strings.Compare(a.String(), b.String()) })
		for _, key := range keys {
			out = appendValue(appendValue(out, key), v.MapIndex(key))
		}
		return out
	case reflect.Pointer:
		return appendValue(out, v.Elem())
	case reflect.Struct:
		for n, i := range fieldsOf(v.Type()) {
			if field := v.Field(i); !field.IsZero() {
				out = appendValue(binary.AppendUvarint(out, uint64(n+1)), field)
			}
		}
		return append(out, 0)
	}
	panic(fmt.Sprintf("pack: a %s cannot be written", v.Type()))
}

func number(text string) (n uint64, rest string, err error) {
	if text != "" && text[0] < 0x80 {
		return uint64(text[0]), text[1:], nil
	}
	n, length := binary.Uvarint([]byte(text[:min(len(text), binary.MaxVarintLen64)]))
	if length <= 0 {
		return 0, "", errText
	}
	return n, text[length:], nil
}

// size reads a number of bytes or elements, each of which takes a byte at least.
func size(text string) (n int, rest string, err error) {
	long, rest, err := number(text)
	if err != nil || long > uint64(len(rest)) {
		return 0, "", errText
	}
	return int(long), rest, nil
}

func read(text string, v reflect.Value) (rest string, err error) {
	switch v.Kind() {
	case reflect.Bool:
		if text == "" {
			return "", errText
		}
		v.SetBool(text[0] != 0)
		return text[1:], nil
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		n, rest, err := number(text)
		v.SetInt(int64(n>>1) ^ -int64(n&1)) // as binary.Varint does
		return rest, err
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		n, rest, err := number(text)
		v.SetUint(n)
		return rest, err
	case reflect.String:
		n, rest, err := size(text)
		if err != nil {
			return "", err
		}
		v.SetString(rest[:n])
		return rest[n:], nil
	case reflect.Slice:
		return readSlice(text, v)
	case reflect.Map:
		return readMap(text, v)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		return read(text, v.Elem())
	case reflect.Struct:
		known := fieldsOf(v.Type())
		for {
			n, rest, err := number(text)
			if err != nil || n > uint64(len(known)) {
				return "", errText
			}
			if n == 0 {
				return rest, nil
			}
			if text, err = read(rest, v.Field(known[n-1])); err != nil {
				return "", err
			}
		}
	}
	return "", errText
}

func readSlice(text string, v reflect.Value) (rest string, err error) {
	n, rest, err := size(text)
	if err != nil {
		return "", err
	}
	v.Set(reflect.MakeSlice(v.Type(), min(n, maxAhead), min(n, maxAhead)))
	for i := range n {
		if i == v.Len() {
			more := min(n-i, i)
			v.Grow(more)
			v.SetLen(i + more)
		}
		if rest, err = read(rest, v.Index(i)); err != nil {
			return "", err
		}
	}
	return rest, nil
}

func readMap(text string, v reflect.Value) (rest string, err error) {
	n, rest, err := size(text)
	if err != nil {
		return "", err
	}
	v.Set(reflect.MakeMapWithSize(v.Type(), min(n, maxAhead)))
	key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
	for range n {
		value.SetZero()
		if rest, err = read(rest, key); err != nil {
			return "", err
		}
		if rest, err = read(rest, value); err != nil {
			return "", err
		}
		v.SetMapIndex(key, value)
	}
	return rest, nil
}
