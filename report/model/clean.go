package model

import (
	"reflect"
	"strings"
	"unicode/utf8"
)

// Printable removes the characters that control terminals from a text: answers of servers, names
// of files and programs and people's remarks may contain anything.
func Printable(t string) string {
	for _, r := range t {
		if steers(r) {
			return strings.Map(func(r rune) rune {
				if steers(r) {
					return ' '
				}
				return r
			}, t)
		}
	}
	return t
}

// steers reports the control characters of ISO/IEC 6429, C0 and C1, characters that change the
// direction of writing, and bytes that are not valid characters.
func steers(r rune) bool {
	return r < ' ' || r >= 0x7f && r < 0xa0 || r == utf8.RuneError || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069
}

// Clean returns a copy of v in which all texts are printable.
func Clean[T any](v T) T {
	out := reflect.New(reflect.TypeFor[T]()).Elem()
	out.Set(cleaned(reflect.ValueOf(&v).Elem()))
	return out.Interface().(T)
}

func cleaned(v reflect.Value) reflect.Value {
	switch v.Kind() {
	case reflect.String:
		return reflect.ValueOf(Printable(v.String())).Convert(v.Type())
	case reflect.Pointer:
		if v.IsNil() {
			return v
		}
		out := reflect.New(v.Type().Elem())
		out.Elem().Set(cleaned(v.Elem()))
		return out
	case reflect.Struct:
		out := reflect.New(v.Type()).Elem()
		out.Set(v)
		for i := range v.NumField() {
			if f := out.Field(i); f.CanSet() {
				f.Set(cleaned(v.Field(i)))
			}
		}
		return out
	case reflect.Slice:
		if v.IsNil() || !holdsText(v.Type().Elem()) {
			return v
		}
		out := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
		for i := range v.Len() {
			out.Index(i).Set(cleaned(v.Index(i)))
		}
		return out
	case reflect.Map:
		if v.IsNil() {
			return v
		}
		out := reflect.MakeMapWithSize(v.Type(), v.Len())
		for key, value := range v.Seq2() {
			out.SetMapIndex(cleaned(key), cleaned(value))
		}
		return out
	}
	return v
}

// holdsText reports whether a type may contain texts.
func holdsText(t reflect.Type) bool {
	switch t.Kind() {
	case reflect.String, reflect.Pointer, reflect.Struct, reflect.Slice, reflect.Map, reflect.Interface, reflect.Array:
		return true
	}
	return false
}
