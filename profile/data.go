package profile

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
)

// encode writes a JSON value as a body of some kind: json, form, xml, or a content type of a text.
func encode(media string, v any) (body, contentType string, err error) {
	switch media {
	case "", "json":
		text, err := json.Marshal(v)
		return string(text), "application/json", err
	case "form":
		text, err := encodeForm(v)
		return text, "application/x-www-form-urlencoded", err
	case "xml":
		text, err := encodeXML(v)
		return text, "application/xml", err
	}
	text, ok := v.(string)
	if !ok {
		return "", "", errors.New("the body is no text")
	}
	return text, media, nil
}

// decode reads an answer as JSON: as it is, or from a form or XML where its content type or the profile says so; else it is a text.
func decode(kind, contentType string, body []byte) (any, error) {
	media, _, _ := strings.Cut(contentType, ";")
	media = strings.TrimSpace(strings.ToLower(media))
	switch {
	case kind == "xml" || kind == "" && (media == "text/xml" || strings.HasSuffix(media, "/xml") || strings.HasSuffix(media, "+xml")):
		if len(bytes.TrimSpace(body)) == 0 {
			return nil, nil
		}
		v, err := decodeXML(body)
		if err != nil && kind == "" {
			return string(body), nil
		}
		return v, err
	case kind == "form" || kind == "" && media == "application/x-www-form-urlencoded":
		values, err := url.ParseQuery(strings.TrimSpace(string(body)))
		if err != nil {
			return nil, err
		}
		out := map[string]any{}
		for name, list := range values {
			if out[name] = list; len(list) == 1 {
				out[name] = list[0]
			}
		}
		return out, nil
	case kind != "text" && json.Valid(body):
		return json.RawMessage(body), nil
	case len(body) == 0:
		return nil, nil
	}
	return string(body), nil
}

func encodeForm(v any) (string, error) {
	object, ok := v.(map[string]any)
	if !ok {
		return "", errors.New("the body of a form is an object")
	}
	values := url.Values{}
	for name, value := range object {
		list, many := value.([]any)
		if !many {
			list = []any{value}
		}
		for _, one := range list {
			text, err := scalarText(one)
			if err != nil {
				return "", fmt.Errorf("the field %q: %w", name, err)
			}
			values.Add(name, text)
		}
	}
	return values.Encode(), nil
}

func scalarText(v any) (string, error) {
	switch v := v.(type) {
	case nil:
		return "", nil
	case string:
		return v, nil
	case bool, float64, json.Number:
		text, err := json.Marshal(v)
		return string(text), err
	}
	return "", errors.New("it is neither text nor number")
}

// XML is written and read as plain data. An element is a field of the object that it is in: null where it is empty, a text where it has
// neither attributes nor elements, else an object. An attribute is a field that begins with @, the text beside elements is the field #text. An element that comes
// several times is a list. Where the order of different elements matters, the field #list is a list of objects with one field each.
// Prefixes of namespaces are left out on reading, and written as they are.

// mostXML bounds how deep elements may lie in each other.
const mostXML = 64

func decodeXML(body []byte) (any, error) {
	decoder := xml.NewDecoder(bytes.NewReader(body))
	decoder.Entity = map[string]string{} // none but the five that every document has
	decoder.CharsetReader = func(charset string, in io.Reader) (io.Reader, error) {
		if strings.EqualFold(charset, "us-ascii") || strings.EqualFold(charset, "utf-8") {
			return in, nil
		}
		return nil, fmt.Errorf("the character set %q is not read; only UTF-8 is", charset)
	}
	for {
		token, err := decoder.Token()
		if err != nil {
			return nil, fmt.Errorf("this is not XML: %w", err)
		}
		if start, ok := token.(xml.StartElement); ok {
			v, err := readElement(decoder, start, 0)
			if err != nil {
				return nil, fmt.Errorf("this is not XML: %w", err)
			}
			return map[string]any{start.Name.Local: v}, nil
		}
	}
}

func readElement(decoder *xml.Decoder, start xml.StartElement, depth int) (any, error) {
	if depth > mostXML {
		return nil, fmt.Errorf("elements lie in each other more than %d deep", mostXML)
	}
	out, text := map[string]any{}, strings.Builder{}
	for _, a := range start.Attr {
		if a.Name.Local != "xmlns" && a.Name.Space != "xmlns" {
			out["@"+a.Name.Local] = a.Value
		}
	}
	for {
		token, err := decoder.Token()
		if err != nil {
			return nil, err
		}
		switch t := token.(type) {
		case xml.StartElement:
			v, err := readElement(decoder, t, depth+1)
			if err != nil {
				return nil, err
			}
			before, again := out[t.Name.Local]
			list, many := before.([]any)
			switch {
			case !again:
				out[t.Name.Local] = v
			case many:
				out[t.Name.Local] = append(list, v)
			default:
				out[t.Name.Local] = []any{before, v}
			}
		case xml.CharData:
			text.Write(t)
		case xml.EndElement:
			words := strings.TrimSpace(text.String())
			if len(out) == 0 && words == "" {
				return nil, nil
			}
			if len(out) == 0 {
				return words, nil
			}
			if words != "" {
				out["#text"] = words
			}
			return out, nil
		}
	}
}

func encodeXML(v any) (string, error) {
	object, ok := v.(map[string]any)
	if !ok || len(object) != 1 {
		return "", errors.New("a body in XML is an object with one field, the outermost element")
	}
	var b strings.Builder
	b.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n")
	for name, value := range object {
		if err := writeElement(&b, name, value, 0); err != nil {
			return "", err
		}
	}
	return b.String(), nil
}

func writeElement(b *strings.Builder, name string, v any, depth int) error {
	if depth > mostXML {
		return fmt.Errorf("elements lie in each other more than %d deep", mostXML)
	}
	if !nameOfXML(name) {
		return fmt.Errorf("%q is no name of an element", name)
	}
	if list, many := v.([]any); many {
		for _, one := range list {
			if err := writeElement(b, name, one, depth); err != nil {
				return err
			}
		}
		return nil
	}
	b.WriteString("<" + name)
	object, ok := v.(map[string]any)
	if !ok {
		text, err := scalarText(v)
		if err != nil {
			return fmt.Errorf("the element %q: %w", name, err)
		}
		b.WriteString(">" + escapeXML(text) + "</" + name + ">")
		return nil
	}
	var fields []string
	for field := range object {
		fields = append(fields, field)
	}
	slices.Sort(fields)
	for _, field := range fields {
		attribute, is := strings.CutPrefix(field, "@")
		if !is {
			continue
		}
		text, err := scalarText(object[field])
		if err != nil || !nameOfXML(attribute) {
			return fmt.Errorf("the attribute %q of %q cannot be written", attribute, name)
		}
		b.WriteString(" " + attribute + `="` + escapeXML(text) + `"`)
	}
	b.WriteString(">")
	for _, field := range fields {
		var err error
		switch {
		case strings.HasPrefix(field, "@"):
		case field == "#text":
			var text string
			text, err = scalarText(object[field])
			b.WriteString(escapeXML(text))
		case field == "#list":
			list, _ := object[field].([]any)
			for _, one := range list {
				of, ok := one.(map[string]any)
				if !ok || len(of) != 1 {
					return fmt.Errorf("#list in %q is a list of objects with one field each", name)
				}
				for inner, value := range of {
					if err := writeElement(b, inner, value, depth+1); err != nil {
						return err
					}
				}
			}
		default:
			err = writeElement(b, field, object[field], depth+1)
		}
		if err != nil {
			return err
		}
	}
	b.WriteString("</" + name + ">")
	return nil
}

// nameOfXML reports whether a text can be the name of an element or attribute.
func nameOfXML(text string) bool {
	for i, r := range text {
		letter := r == '_' || r == ':' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r > 0x7f
		if !letter && (i == 0 || r != '-' && r != '.' && (r < '0' || r > '9')) {
			return false
		}
	}
	return text != ""
}

func escapeXML(text string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(text)) // a builder takes everything
	return b.String()
}
