package cli

import (
	"bytes"
	"encoding"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"
)

// encode writes a value as JSON for people's programs: as encoding/json does, but lists that are empty
// are [] and never null, times that are not known are left out, and lengths of time are in seconds,
// under names that say so.
func encode(v any) ([]byte, error) {
	var b bytes.Buffer
	if err := (&encoder{&b}).value(reflect.ValueOf(v)); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if err := json.Indent(&out, b.Bytes(), "", "  "); err != nil {
		return nil, err
	}
	return append(out.Bytes(), '\n'), nil
}

var (
	rawType      = reflect.TypeFor[json.RawMessage]()
	timeType     = reflect.TypeFor[time.Time]()
	durationType = reflect.TypeFor[time.Duration]()
	marshaler    = reflect.TypeFor[json.Marshaler]()
	textual      = reflect.TypeFor[encoding.TextMarshaler]()
)

type encoder struct{ b *bytes.Buffer }

func (e *encoder) value(v reflect.Value) error {
	if !v.IsValid() {
		return e.plain(nil)
	}
	t := v.Type()
	switch {
	case t == durationType:
		return e.plain(v.Interface().(time.Duration).Seconds())
	case t == rawType && v.Len() > 0:
		return e.raw(v.Interface().(json.RawMessage))
	case t.Implements(marshaler), t.Implements(textual):
		if v.Kind() == reflect.Pointer && v.IsNil() {
			return e.plain(nil)
		}
		return e.plain(v.Interface())
	}
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return e.plain(nil)
		}
		return e.value(v.Elem())
	case reflect.Struct:
		return e.object(v)
	case reflect.Map:
		return e.mapping(v)
	case reflect.Slice, reflect.Array:
		if t.Elem().Kind() == reflect.Uint8 {
			return e.plain(v.Interface())
		}
		return e.list(v)
	}
	return e.plain(v.Interface())
}

// raw writes what was written before, without times that are not known.
func (e *encoder) raw(b json.RawMessage) error {
	dec := json.NewDecoder(bytes.NewReader(b))
	dec.UseNumber()
	var v any
	if err := dec.Decode(&v); err != nil {
		return err
	}
	return e.plain(known(v))
}

// known takes times that are not known out of what was decoded.
func known(v any) any {
	switch x := v.(type) {
	case map[string]any:
		for k, m := range x {
			if s, is := m.(string); is && strings.HasPrefix(s, "0001-01-01T00:00:00") {
				delete(x, k)
			} else {
				x[k] = known(m)
			}
		}
	case []any:
		for i := range x {
			x[i] = known(x[i])
		}
	}
	return v
}

// plain writes what encoding/json writes as it should be.
func (e *encoder) plain(v any) error {
	enc := json.NewEncoder(e.b)
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

func (e *encoder) list(v reflect.Value) error {
	e.b.WriteByte('[')
	for i := range v.Len() {
		if i > 0 {
			e.b.WriteByte(',')
		}
		if err := e.value(v.Index(i)); err != nil {
			return err
		}
	}
	e.b.WriteByte(']')
	return nil
}

func (e *encoder) mapping(v reflect.Value) error {
	type member struct {
		key   string
		value reflect.Value
	}
	var all []member
	for _, k := range v.MapKeys() {
		key := fmt.Sprint(k.Interface())
		if text, is := k.Interface().(encoding.TextMarshaler); is {
			b, err := text.MarshalText()
			if err != nil {
				return err
			}
			key = string(b)
		}
		all = append(all, member{key, v.MapIndex(k)})
	}
	slices.SortFunc(all, func(a, b member) int { return strings.Compare(a.key, b.key) })
	e.b.WriteByte('{')
	for i, m := range all {
		if err := e.member(i == 0, m.key, m.value); err != nil {
			return err
		}
	}
	e.b.WriteByte('}')
	return nil
}

func (e *encoder) member(first bool, name string, v reflect.Value) error {
	if !first {
		e.b.WriteByte(',')
	}
	if err := e.plain(name); err != nil {
		return err
	}
	e.b.WriteByte(':')
	return e.value(v)
}

func (e *encoder) object(v reflect.Value) error {
	e.b.WriteByte('{')
	first := true
	if err := e.fields(v, &first); err != nil {
		return err
	}
	e.b.WriteByte('}')
	return nil
}

// fields writes those of a struct, and of the structs that are embedded in it.
func (e *encoder) fields(v reflect.Value, first *bool) error {
	for i := range v.NumField() {
		f := v.Type().Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		x := v.Field(i)
		if f.Anonymous && name == "" && x.Kind() == reflect.Struct && !f.Type.Implements(marshaler) {
			if err := e.fields(x, first); err != nil {
				return err
			}
			continue
		}
		if !f.IsExported() || name == "-" || leftOut(x, options) {
			continue
		}
		if name == "" {
			name = f.Name
		}
		if f.Type == durationType {
			name += "_seconds"
		}
		if err := e.member(*first, name, x); err != nil {
			return err
		}
		*first = false
	}
	return nil
}

// leftOut tells whether a field is not written: it is a time that is not known, or it is empty and
// said to be left out then.
func leftOut(v reflect.Value, options string) bool {
	if v.Type() == timeType && v.Interface().(time.Time).IsZero() {
		return true
	}
	if strings.Contains(options, "omitzero") && v.IsZero() {
		return true
	}
	if !strings.Contains(options, "omitempty") {
		return false
	}
	switch v.Kind() {
	case reflect.Slice, reflect.Map, reflect.String, reflect.Array:
		return v.Len() == 0
	case reflect.Struct:
		return false
	}
	return v.IsZero()
}
