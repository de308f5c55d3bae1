package api

import (
	"encoding"
	"reflect"
	"strconv"
	"strings"
	"time"

	"beacon/wire"
)

type object = map[string]any

// Document is the OpenAPI 3.1 document of the API.
func Document() map[string]any { return openAPI(routes()) }

// openAPI describes the routes as an OpenAPI 3.1 document. Schemas are read off the Go types that are really sent.
func openAPI(list []route) object {
	s := schemas{}
	for _, r := range list { // first what is answered: requests with the same type have a schema of their own
		s.responses(r)
	}
	paths := object{}
	for _, r := range list {
		path, parameters := describePath(r)
		operation := object{"summary": r.summary, "operationId": operationID(r), "responses": s.responses(r), "x-effect": string(r.effect)}
		if len(parameters) > 0 {
			operation["parameters"] = parameters
		}
		if r.in != nil {
			operation["requestBody"] = object{"required": true, "content": object{"application/json": object{"schema": s.ofRequest(reflect.TypeOf(r.in))}}}
		}
		switch r.needs {
		case anybody:
			operation["security"] = []object{}
		case signedIn:
			operation["description"] = "Needs a sign-in or a token."
		default:
			operation["description"] = "Needs the action " + string(r.needs) + "."
		}
		if paths[path] == nil {
			paths[path] = object{}
		}
		paths[path].(object)[strings.ToLower(r.method)] = operation
	}
	return object{
		"openapi":    "3.1.0",
		"info":       object{"title": "Agile Beacon", "version": "1"},
		"servers":    []object{{"url": Base}},
		"security":   []object{{"bearer": []string{}}},
		"paths":      paths,
		"components": object{"schemas": s.named(), "securitySchemes": object{"bearer": object{"type": "http", "scheme": "bearer"}}},
	}
}

// describePath turns ":name" into "{name}" and lists the parameters.
func describePath(r route) (string, []object) {
	var list []object
	add := func(name, in string, required bool) {
		p := object{"name": name, "in": in, "schema": object{"type": "string"}}
		if known, ok := parameters[name]; ok {
			p["description"] = known.description
			if known.example != "" {
				p["example"] = known.example
			}
		}
		if required {
			p["required"] = true
		}
		list = append(list, p)
	}
	parts := strings.Split(r.path, "/")
	for i, part := range parts {
		if name, ok := strings.CutPrefix(part, ":"); ok {
			parts[i] = "{" + name + "}"
			add(name, "path", true)
		}
	}
	for _, name := range r.query {
		add(name, "query", false)
	}
	if r.keyed() {
		add(keyHeader, "header", false)
	}
	if r.match != nil || strings.Contains(r.summary, "If-Match") {
		add("If-Match", "header", false)
	}
	return strings.Join(parts, "/"), list
}

func operationID(r route) string {
	id := strings.ToLower(r.method)
	for _, part := range strings.Split(r.path, "/") {
		if part = strings.TrimPrefix(part, ":"); part != "" {
			id += strings.ToUpper(part[:1]) + part[1:]
		}
	}
	return id
}

func (s schemas) responses(r route) object {
	good := object{"description": "done"}
	if r.stream != nil {
		kind := "text/event-stream"
		if r.text {
			kind = "text/plain"
		}
		good["content"] = object{kind: object{"schema": object{"type": "string"}}}
	}
	if r.out != nil {
		good["content"] = object{"application/json": object{"schema": s.of(reflect.TypeOf(r.out))}}
	}
	return object{
		strconv.Itoa(r.status): good,
		"default": object{"description": "a problem document (RFC 9457)",
			"content": object{"application/problem+json": object{"schema": s.of(reflect.TypeFor[wire.ProblemDocument]())}}},
	}
}

// schemas collects the schemas of struct types by name.
type schemas map[string]object

func (s schemas) named() object {
	out := object{}
	for name, schema := range s {
		out[name] = schema
	}
	return out
}

var textType = reflect.TypeFor[encoding.TextMarshaler]()

// of returns the schema of a type; structs are named and referred to.
func (s schemas) of(t reflect.Type) object {
	switch {
	case t.Kind() == reflect.Pointer: // before the rest: a pointer has the methods of what it points at
		return object{"oneOf": []object{s.of(t.Elem()), {"type": "null"}}}
	case t == reflect.TypeFor[time.Time]():
		return object{"type": "string", "format": "date-time"}
	case t.Implements(textType):
		return object{"type": "string"}
	}
	switch t.Kind() {
	case reflect.Slice:
		return object{"type": "array", "items": s.of(t.Elem())}
	case reflect.Map:
		return object{"type": "object", "additionalProperties": s.of(t.Elem())}
	case reflect.Bool:
		return object{"type": "boolean"}
	case reflect.String:
		return object{"type": "string"}
	case reflect.Float64:
		return object{"type": "number"}
	case reflect.Struct:
		return s.ofStruct(t)
	}
	return object{"type": "integer"}
}

func (s schemas) ofStruct(t reflect.Type) object {
	name := schemaName(t)
	if _, known := s[name]; !known {
		s[name] = object{} // a type may hold itself
		properties, required := object{}, []string{}
		s.addFields(t, properties, &required, false)
		s[name] = object{"type": "object", "properties": properties, "required": required}
	}
	return object{"$ref": "#/components/schemas/" + name}
}

// ofRequest returns the schema of what is sent: all but the fields that are marked so may be left out. Types that are answered too
// have a name of their own for it.
func (s schemas) ofRequest(t reflect.Type) object {
	switch t.Kind() {
	case reflect.Pointer:
		return object{"oneOf": []object{s.ofRequest(t.Elem()), {"type": "null"}}}
	case reflect.Slice:
		if !t.Implements(textType) {
			return object{"type": "array", "items": s.ofRequest(t.Elem())}
		}
	case reflect.Struct:
		if !t.Implements(textType) && t != reflect.TypeFor[time.Time]() {
			return s.requestStruct(t)
		}
	}
	return s.of(t)
}

func (s schemas) requestStruct(t reflect.Type) object {
	name := schemaName(t)
	if known, answered := s[name]; answered && known["x-request"] == nil {
		name += "Sent"
	}
	if _, known := s[name]; !known {
		s[name] = object{"x-request": true}
		properties, required := object{}, []string{}
		s.addFields(t, properties, &required, true)
		s[name] = object{"type": "object", "properties": properties, "required": required, "x-request": true}
	}
	return object{"$ref": "#/components/schemas/" + name}
}

// addFields adds the fields of a struct that is sent to the service, or else answered by it.
func (s schemas) addFields(t reflect.Type, properties object, required *[]string, sent bool) {
	of := s.of
	if sent {
		of = s.ofRequest
	}
	for i := range t.NumField() {
		f := t.Field(i)
		tag, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case tag == "-" || !f.IsExported():
			continue
		case f.Anonymous && tag == "":
			s.addFields(f.Type, properties, required, sent)
			continue
		}
		property := of(f.Type)
		if text := describeField(t, f, tag); text != "" {
			property["description"] = text
		}
		if example := exampleOf(f.Type, tag); example != nil {
			property["examples"] = []any{example}
		}
		properties[tag] = property
		if sent && f.Tag.Get("required") == "true" || !sent && !strings.Contains(options, "omitempty") && !strings.Contains(options, "omitzero") {
			*required = append(*required, tag)
		}
	}
}

// schemaName is a type's own name, with that of its package in front where it is not one of the API's or the
// service's: two packages may have a Registration each. Instances of Page are named by what they hold.
func schemaName(t reflect.Type) string {
	name := t.Name()
	if at := strings.IndexByte(name, '['); at >= 0 {
		inner := name[at+1 : len(name)-1]
		name = name[:at] + "Of" + qualified(inner[:max(0, strings.LastIndexByte(inner, '.'))], inner[strings.LastIndexByte(inner, '.')+1:])
		return name
	}
	return qualified(t.PkgPath(), name)
}

func qualified(path, name string) string {
	upper := func(word string) string { return strings.ToUpper(word[:1]) + word[1:] }
	pkg := path[strings.LastIndexByte(path, '/')+1:]
	if pkg == "api" || pkg == "wire" || pkg == "" {
		return upper(name)
	}
	return upper(pkg) + upper(name)
}
