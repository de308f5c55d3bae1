package wire

import (
	"time"

	"beacon/core/record"
)

// Revision is one accepted state of the desired records of a zone.
type Revision struct {
	Number    uint32    `json:"number"`
	Records   int       `json:"records"`
	Author    string    `json:"author"`
	Source    string    `json:"source"`
	Reason    string    `json:"reason"` // in the words of the user who accepted it
	CreatedAt time.Time `json:"created_at"`
}

// Compared is what differs between two revisions of a zone.
type Compared struct {
	From    uint32          `json:"from"` // 0 for before the first
	To      uint32          `json:"to"`
	Added   []record.Record `json:"added"`
	Removed []record.Record `json:"removed"`
	Same    int             `json:"same"`
	// Attributes are declared attributes of sets that differ.
	Attributes []AttributeChange `json:"attributes"`
}

// NameChange is a revision that changed the records of one name.
type NameChange struct {
	Revision Revision        `json:"revision"`
	Added    []record.Record `json:"added"`
	Removed  []record.Record `json:"removed"`
	// Attributes are declared attributes of its sets that changed.
	Attributes []AttributeChange `json:"attributes"`
}

type Restore struct {
	Revision uint32 `json:"revision" required:"true"`
	Reason   string `json:"reason"`
}
