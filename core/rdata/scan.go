package rdata

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"beacon/core/dnsname"
)

// token is one word of a text, or one quoted string without its quotes; escapes are still in it.
type token struct {
	text   string
	quoted bool
}

func (t token) shown() string {
	if len(t.text) > 60 {
		return strconv.Quote(t.text[:60] + "…")
	}
	return strconv.Quote(t.text)
}

// scanner hands out the tokens of one record's data.
type scanner struct {
	tokens []token
	at     int
	origin dnsname.Name
}

// Plain returns an error if text would end a record early in a master file, or go on behind it (RFC 1035 section 5.1).
func Plain(text string) error {
	if text == "" {
		return errors.New("the data is missing")
	}
	quoted := false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\':
			if i++; i == len(text) {
				return errors.New("it ends in a backslash")
			}
			if text[i] == '\n' || text[i] == '\r' {
				return errors.New("the data contains a line break; write it on one line")
			}
		case c == '"':
			quoted = !quoted
		case c == '\n' || c == '\r':
			return errors.New("the data contains a line break; write it on one line")
		case !quoted && (c == ';' || c == '(' || c == ')'):
			return fmt.Errorf("the data contains %q outside quotes; put quotes around the text", string(c))
		}
	}
	if quoted {
		return errors.New("a quote is opened and never closed")
	}
	return nil
}

// scan cuts text into tokens. A quote within a word begins a quoted piece of that word: key="a b" is one token.
func scan(text string, origin dnsname.Name) (*scanner, error) {
	if text != "" {
		if err := Plain(text); err != nil {
			return nil, err
		}
	}
	s := &scanner{origin: origin}
	for i := 0; i < len(text); {
		switch c := text[i]; c {
		case ' ', '\t':
			i++
		case '"':
			end := closing(text, i+1)
			s.tokens = append(s.tokens, token{text[i+1 : end], true})
			i = end + 1
		default:
			end := i
			for end < len(text) && text[end] != ' ' && text[end] != '\t' {
				switch text[end] {
				case '\\':
					end++
				case '"':
					end = closing(text, end+1)
				}
				end++
			}
			s.tokens = append(s.tokens, token{text[i:min(end, len(text))], false})
			i = end
		}
	}
	return s, nil
}

// closing returns the index of the quote that ends the string which begins at i; Plain has seen that there is one.
func closing(text string, i int) int {
	for i < len(text) && text[i] != '"' {
		if text[i] == '\\' {
			i++
		}
		i++
	}
	return i
}

func (s *scanner) peek() (token, bool) {
	if s.at == len(s.tokens) {
		return token{}, false
	}
	return s.tokens[s.at], true
}

// next returns the next token, quoted or not.
func (s *scanner) next() (token, error) {
	t, ok := s.peek()
	if !ok {
		return token{}, errors.New("it is missing")
	}
	s.at++
	return t, nil
}

// word returns the next token, which must not be quoted.
func (s *scanner) word() (string, error) {
	t, err := s.next()
	if err == nil && t.quoted {
		err = fmt.Errorf("%s must not be in quotes", t.shown())
	}
	return t.text, err
}

// restWords joins all tokens that are left, none of which may be quoted.
func (s *scanner) restWords() (string, error) {
	var b strings.Builder
	for s.at < len(s.tokens) {
		w, err := s.word()
		if err != nil {
			return "", err
		}
		b.WriteString(w)
	}
	return b.String(), nil
}

// number reads a decimal number up to most.
func (s *scanner) number(name string, most uint64) (uint64, error) {
	w, err := s.word()
	if err != nil {
		return 0, fmt.Errorf("%s: %w", name, err)
	}
	n, err := decimal(w, most)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", name, err)
	}
	return n, nil
}

// decimal reads digits and nothing else.
func decimal(text string, most uint64) (uint64, error) {
	if text == "" || strings.Trim(text, "0123456789") != "" {
		return 0, fmt.Errorf("%q is no number", text)
	}
	n, err := strconv.ParseUint(text, 10, 64)
	if err != nil || n > most {
		return 0, fmt.Errorf("%s is more than %d", text, most)
	}
	return n, nil
}

// unescape returns the octets of a word or a quoted string (RFC 1035 section 5.1): \DDD is an octet, \X is X.
func unescape(text string) ([]byte, error) {
	if strings.IndexByte(text, '\\') < 0 {
		return []byte(text), nil
	}
	out := make([]byte, 0, len(text))
	for i := 0; i < len(text); i++ {
		if text[i] != '\\' {
			out = append(out, text[i])
			continue
		}
		if i++; i == len(text) {
			return nil, errors.New("it ends in a backslash")
		}
		if text[i] < '0' || text[i] > '9' {
			out = append(out, text[i])
			continue
		}
		if i+3 > len(text) || strings.Trim(text[i:i+3], "0123456789") != "" {
			return nil, errors.New(`an escape \DDD needs three digits`)
		}
		n, _ := strconv.Atoi(text[i : i+3])
		if n > 255 {
			return nil, fmt.Errorf(`the escape \%s is more than \255`, text[i:i+3])
		}
		out = append(out, byte(n))
		i += 2
	}
	return out, nil
}

// octetsOf returns the octets of a token as a character-string; a word must have no quotes within.
func (t token) octetsOf() ([]byte, error) {
	if !t.quoted {
		for i := 0; i < len(t.text); i++ {
			switch t.text[i] {
			case '\\':
				i++
			case '"':
				return nil, fmt.Errorf("%s has a quote in its middle; put quotes around the whole text", t.shown())
			}
		}
	}
	return unescape(t.text)
}
