package textfile

import (
	"reflect"
	"strings"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/token"

	"metabasis/internal/core/problem"
)

// namesAt says what may be written in place of the name at a place of a tree that is
// read into a value of type t; "" where the place is not found.
func namesAt(n ast.Node, t reflect.Type, at *token.Token) string {
	for t != nil && t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t == nil || n == nil {
		return ""
	}
	switch v := n.(type) {
	case *ast.MappingNode:
		for _, kv := range v.Values {
			if hint := namesIn(kv, t, at); hint != "" {
				return hint
			}
		}
	case *ast.MappingValueNode: // a mapping of one line
		return namesIn(v, t, at)
	case *ast.SequenceNode:
		if t.Kind() != reflect.Slice {
			return ""
		}
		for _, item := range v.Values {
			if hint := namesAt(item, t.Elem(), at); hint != "" {
				return hint
			}
		}
	}
	return ""
}

func namesIn(kv *ast.MappingValueNode, t reflect.Type, at *token.Token) string {
	switch t.Kind() {
	case reflect.Map:
		return namesAt(kv.Value, t.Elem(), at)
	case reflect.Struct:
		names := make(map[string]reflect.Type)
		written := collect(t, names, nil)
		key := kv.Key.GetToken()
		if key.Position.Line == at.Position.Line && key.Position.Column == at.Position.Column {
			return nearOrAll(key.Value, written)
		}
		return namesAt(kv.Value, names[key.Value], at)
	}
	return ""
}

// nearOrAll is the name that was meant where one letter is wrong, else all there are: a
// word that is only a little like another is mostly another person's idea of the file.
func nearOrAll(word string, names []string) string {
	if near := problem.Nearest(word, names); near != "" && levenshtein.ComputeDistance(strings.ToLower(word), near) <= 1 {
		return near
	}
	if len(names) == 0 {
		return ""
	}
	return "one of " + strings.Join(names, ", ")
}

// collect gives the names of a struct's fields in their order, and their types.
func collect(t reflect.Type, types map[string]reflect.Type, names []string) []string {
	for f := range t.Fields() {
		name, rest, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		switch {
		case rest == "inline" && f.Type.Kind() == reflect.Struct:
			names = collect(f.Type, types, names)
		case name != "" && name != "-" && f.IsExported():
			types[name] = f.Type
			names = append(names, name)
		}
	}
	return names
}
