package wire

import (
	"beacon/core/dnsname"
	"beacon/core/record"
)

// Hit is a record that a search found.
type Hit struct {
	Zone   dnsname.Name  `json:"zone"`
	Record record.Record `json:"record"`
}

// SearchRequest returns which records are looked for, in all zones. Criteria that are empty do not count.
type SearchRequest struct {
	Text    string `json:"text"` // an address or network; else a name, or what a record points at or says
	Zone    string `json:"zone"`
	Name    string `json:"name"`    // "*" at the beginning or the end stands for anything
	Value   string `json:"value"`   // the same
	Type    string `json:"type"`    // a record type
	Address string `json:"address"` // an address, or a network such as 192.0.2.0/24
	TTL     string `json:"ttl"`     // a number of seconds, or one behind <, <=, > or >=
	Cursor  string `json:"cursor"`
	Limit   int    `json:"limit"`
}
