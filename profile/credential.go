package profile

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"beacon/outcall"
)

// Part is a part of a credential that a user gives by its name.
type Part struct {
	Name  string
	About string
}

// credential says which parts the credential has, and how they travel.
type credential struct {
	parts []Part // none where it is one text
	sends []send
}

// send is one way in which a part of a credential travels.
type send struct {
	in             string // header, basic, query, form, body, signature or tls
	part           string // which part; empty where the credential is one text
	user, password string // parts, of basic
	name           string // of the header, the parameter, the field; or a path of fields with dots between them
	prefix         string
	sign           *signing
	tls            *clientTLS
}

// secrets are the parts of one credential; the one without a name is a credential that is one text.
type secrets map[string]string

// readSecrets takes a credential apart. One with named parts is kept as a JSON object.
func (c credential) readSecrets(text string) (secrets, error) {
	if len(c.parts) == 0 {
		return secrets{"": text}, nil
	}
	var s secrets
	if err := json.Unmarshal([]byte(text), &s); err != nil {
		return secrets{"": text}, fmt.Errorf("the credential has the parts %s; give each by its name", c.names())
	}
	for _, p := range c.parts {
		if s[p.Name] == "" {
			return s, fmt.Errorf("the part %q of the credential is missing; it has the parts %s", p.Name, c.names())
		}
	}
	return s, nil
}

func (c credential) names() string {
	names := make([]string, len(c.parts))
	for i, p := range c.parts {
		names[i] = p.Name
	}
	return strings.Join(names, ", ")
}

// leastSecret is the fewest characters of what is kept out of texts: anything shorter would blank words at random.
const leastSecret = 4

// forms returns all that must not be repeated to anybody: each part, as it is and as it is written in addresses, in JSON, in XML and in Base64.
func (s secrets) forms() (list []string) {
	add := func(text string) {
		if len(text) >= leastSecret && !slices.Contains(list, text) {
			list = append(list, text)
		}
	}
	each := func(text string) {
		add(text)
		add(url.QueryEscape(text))
		add(url.PathEscape(text))
		quoted, _ := json.Marshal(text) // a text always encodes
		add(strings.Trim(string(quoted), `"`))
		add(escapeXML(text))
		add(base64.StdEncoding.EncodeToString([]byte(text)))
	}
	for _, text := range s {
		each(text)
		if _, password, ok := strings.Cut(text, ":"); ok { // USER:PASSWORD and ID:KEY
			each(password)
		}
		for _, line := range strings.Split(text, "\n") { // of keys in PEM
			if len(line) >= 16 && !strings.HasPrefix(line, "-----") {
				add(strings.TrimSpace(line))
			}
		}
	}
	// The longest first: a part of one may be another.
	slices.SortFunc(list, func(a, b string) int { return len(b) - len(a) })
	return list
}

// place puts what travels in the body into it. body is a JSON value.
func (s secrets) place(sends []send, body any) (any, error) {
	for _, way := range sends {
		if way.in != "body" && way.in != "form" {
			continue
		}
		if body == nil {
			body = map[string]any{}
		}
		at, ok := body.(map[string]any)
		fields := strings.Split(way.name, ".")
		for _, field := range fields[:len(fields)-1] {
			if !ok {
				break
			}
			if at[field] == nil {
				at[field] = map[string]any{}
			}
			at, ok = at[field].(map[string]any)
		}
		if !ok {
			return nil, fmt.Errorf("the body has no place for the credential at %q: that is no object", way.name)
		}
		at[fields[len(fields)-1]] = way.prefix + s[way.part]
	}
	return body, nil
}

// authorize puts what travels beside the body on a request.
func (d *caller) authorize(r *http.Request, body []byte, s secrets, sends []send) error {
	for _, way := range sends {
		value := way.prefix + s[way.part]
		switch way.in {
		case "header":
			r.Header.Set(way.name, value)
		case "basic":
			user, password := s[way.user], s[way.password]
			if way.user == "" {
				user, password, _ = strings.Cut(s[way.part], ":")
			}
			r.SetBasicAuth(user, password)
		case "query":
			q := r.URL.Query()
			q.Set(way.name, value)
			r.URL.RawQuery = q.Encode()
		case "signature":
			if err := d.sign(r, body, s, way); err != nil {
				return err
			}
		}
	}
	return nil
}

// credentialProblem is the error for a credential that is not of the form that the interface wants.
func (d *caller) credentialProblem(err error) error {
	return &outcall.Error{Kind: outcall.Unauthorised, Outcome: outcall.NotSent, Account: d.client.Account, Asked: "profile " + d.profile.Name, Said: err.Error()}
}
