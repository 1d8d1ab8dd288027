package api

import (
	"reflect"
	"strings"
	"unicode"

	"oakenlatch/service/refusal"
)

// acts reports whether a character does something to a terminal or a page instead of standing there:
// control characters but line ends and tabs, and what turns the direction of text round (UAX #9).
func acts(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case unicode.IsControl(r), r == '\u061c', r == '\u200e', r == '\u200f', r >= '\u2028' && r <= '\u202e',
		r >= '\u2066' && r <= '\u2069':
		return true
	}
	return false
}

// standing refuses a text that acts: others read it in their terminals.
func standing(what, text string) error {
	if i := strings.IndexFunc(text, acts); i >= 0 {
		r := []rune(text[i:])[0]
		return refusal.New(
			refusal.Invalid, "take it out", "%s holds %U, a character that acts instead of being read", what, r,
		)
	}
	return nil
}

// plain refuses what people say in a request that acts: each text of it, but for what is meant as it
// is (tagged raw: configurations, their paths and values, passwords, keys).
func plain(what string, v reflect.Value) error {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return nil
		}
		return plain(what, v.Elem())
	case reflect.String:
		return standing(what, v.String())
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			if err := plain(what, v.Index(i)); err != nil {
				return err
			}
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			if err := plain(what, k); err != nil {
				return err
			}
			if err := plain(what, v.MapIndex(k)); err != nil {
				return err
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			f := v.Type().Field(i)
			if !f.IsExported() || f.Tag.Get("raw") != "" {
				continue
			}
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			if f.Anonymous && name == "" {
				name = what
			}
			if err := plain(name, v.Field(i)); err != nil {
				return err
			}
		}
	}
	return nil
}
