package store

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"github.com/go-sql-driver/mysql"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// ErrTooBroad means that a search took too long: too many records match the criterion that it goes by, and too few the others.
var ErrTooBroad = errors.New("the search is too broad")

// Match is a criterion on text: the whole of it, its beginning, or its end.
type Match struct {
	Text   string
	Begins bool // the text is a beginning
	Ends   bool // the text is an end
}

// IsZero reports whether there is no criterion.
func (m Match) IsZero() bool { return m.Text == "" }

// Query is what is searched for; every criterion that is given has to hold.
type Query struct {
	Zone      dnsname.Name
	Name      Match // of the owner, without its final dot
	Value     Match // of what the record says, see record.Data.Says
	Type      record.Type
	Address   netip.Prefix
	TTLLeast  *uint32
	TTLMost   *uint32
	After     string // cursor
	Limit     int
	In        *access.Scope // zones that the caller may see; nil for all
	Unbounded bool          // it may take as long as it takes, and gives everything: for changes
}

// Hit is a record that was found.
type Hit struct {
	Zone   dnsname.Name  `json:"zone"`
	Record record.Record `json:"record"`
}

type hitRow struct {
	ID      uint64
	NameKey string
	Type    uint16
	TTL     uint32 `gorm:"column:ttl"`
	Data    string
	Value   []byte
	ZoneKey string
	Ordered []byte
}

// cursor is where a page ended: the value of the column that the search goes along, and the row.
type cursor struct {
	At []byte `json:"a"`
	ID uint64 `json:"i"`
}

// Search finds records in the order of the criterion that finds the fewest; next is the cursor of the following page.
func (t *Tx) Search(q Query) (hits []Hit, next string, err error) {
	way := wayOf(q)
	where, args := way.where, way.args
	for _, c := range conditionsOf(q) {
		where = append(where, c.text)
		args = append(args, c.args...)
	}
	if q.After != "" {
		var c cursor
		text, err := base64.RawURLEncoding.DecodeString(q.After)
		if err == nil {
			err = json.Unmarshal(text, &c)
		}
		if err != nil {
			return nil, "", fmt.Errorf("%w: the cursor is none of ours", ErrNotFound)
		}
		where = append(where, fmt.Sprintf("(%s > ? OR %s = ? AND r.id > ?)", way.column, way.column))
		args = append(args, way.value(c.At), way.value(c.At), c.ID)
	}
	limit, bound := fmt.Sprintf(" LIMIT %d", q.Limit+1), fmt.Sprintf("SET STATEMENT max_statement_time=%.1f FOR ", RowsAge.Seconds())
	if q.Unbounded {
		limit, bound = "", ""
	}
	statement := bound + "SELECT r.id, r.name_key, r.type, r.ttl, r.data, r.value, z.name_key AS zone_key, " + way.column + " AS ordered FROM records r FORCE INDEX (" + way.index +
		") JOIN zones z ON z.id = r.zone_id WHERE " + strings.Join(where, " AND ") + " ORDER BY " + way.column + ", r.id" + limit
	var rows []hitRow
	if err := t.db.Raw(statement, args...).Scan(&rows).Error; err != nil {
		var known *mysql.MySQLError
		if errors.As(err, &known) && known.Number == 1969 {
			return nil, "", ErrTooBroad
		}
		return nil, "", err
	}
	if !q.Unbounded && len(rows) > q.Limit {
		last := rows[q.Limit-1]
		text, err := json.Marshal(cursor{last.Ordered, last.ID})
		if err != nil {
			return nil, "", err
		}
		rows, next = rows[:q.Limit], base64.RawURLEncoding.EncodeToString(text)
	}
	hits = make([]Hit, 0, len(rows))
	for _, row := range rows {
		r := record.Record{Name: dnsname.FromKey(row.NameKey), TTL: row.TTL, Type: record.Type(row.Type), Data: record.Data(row.Data)}
		if q.Value.holds(r.Data.Says(r.Type)) {
			hits = append(hits, Hit{dnsname.FromKey(row.ZoneKey), r})
		}
	}
	return hits, next, nil
}

// holds looks at the whole of a text, of which rows keep the beginning and the end only.
func (m Match) holds(text string) bool {
	switch {
	case m.IsZero():
		return true
	case m.Begins:
		return strings.HasPrefix(text, m.Text)
	case m.Ends:
		return strings.HasSuffix(text, m.Text)
	}
	return text == m.Text
}

// way is the index that a search goes along.
type way struct {
	column, index string
	number        bool // the column holds a number
	where         []string
	args          []any
}

// value returns what a cursor holds to the database, in the type of the column.
func (w way) value(at []byte) any {
	if w.number {
		return string(at)
	}
	return octets(at)
}

// wayOf chooses the index by what usually finds the fewest records.
func wayOf(q Query) way {
	exact := func(m Match) bool { return !m.IsZero() && !m.Begins && !m.Ends }
	switch {
	case q.Address.IsValid():
		return way{column: "r.address", index: "records_address"}
	case exact(q.Value), q.Value.Begins && !exact(q.Name):
		return way{column: "r.value", index: "records_value"}
	case q.Value.Ends && !exact(q.Name):
		return way{column: "r.value_back", index: "records_value_back"}
	case exact(q.Name), q.Name.Begins:
		return way{column: "r.owner", index: "records_owner"}
	case q.Name.Ends:
		return way{column: "r.owner_back", index: "records_owner_back"}
	case !q.Zone.IsZero():
		return way{column: "r.name_key", index: "records_place"}
	case q.Type != 0:
		return way{column: "r.ttl", index: "records_type", number: true}
	case q.TTLLeast != nil || q.TTLMost != nil:
		return way{column: "r.ttl", index: "records_ttl", number: true}
	}
	return way{column: "r.id", index: "PRIMARY", number: true}
}

type condition struct {
	text string
	args []any
}

func conditionsOf(q Query) (list []condition) {
	add := func(text string, args ...any) { list = append(list, condition{text, args}) }
	add("TRUE")
	matches := func(m Match, column string, most int) {
		text := head(m.Text, most)
		switch {
		case m.IsZero():
		case m.Begins:
			add("r."+column+" LIKE ?", octets(likeBeginning(text)))
		case m.Ends:
			add("r."+column+"_back LIKE ?", octets(likeBeginning(head(backwards(m.Text), most))))
		default:
			add("r."+column+" = ?", octets(text))
		}
	}
	if q.In != nil && !q.In.All() {
		in, args := (&Tx{scope: *q.In}).inZones("z.name_key")
		add(in, args...)
	}
	if !q.Zone.IsZero() {
		add("r.zone_id = (SELECT id FROM zones WHERE name_key = ?)", octets(q.Zone.Key()))
	}
	matches(q.Name, "owner", longestOwner)
	matches(q.Value, "value", longestValue)
	if q.Type != 0 {
		add("r.type = ?", uint16(q.Type))
	}
	if q.Address.IsValid() {
		first, last := addressRange(q.Address)
		add("r.address BETWEEN ? AND ?", octets(first[:]), octets(last[:]))
	}
	if q.TTLLeast != nil {
		add("r.ttl >= ?", *q.TTLLeast)
	}
	if q.TTLMost != nil {
		add("r.ttl <= ?", *q.TTLMost)
	}
	return list
}

var likeEscape = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)

func likeBeginning(text string) string { return likeEscape.Replace(text) + "%" }

// addressRange returns the first and the last address of a network, in 16 octets.
func addressRange(p netip.Prefix) (first, last [16]byte) {
	p = p.Masked()
	first, last = p.Addr().As16(), p.Addr().As16()
	bits := p.Bits()
	if p.Addr().Is4() {
		bits += 96
	}
	for i := bits; i < 128; i++ {
		last[i/8] |= 1 << (7 - i%8)
	}
	return first, last
}

// SearchNow searches outside a transaction of one's own.
func (s *Store) SearchNow(ctx context.Context, q Query) (hits []Hit, next string, err error) {
	hits, next, err = (&Tx{db: s.db.WithContext(ctx), now: s.now, kept: &s.kept, reading: true}).Search(q)
	return hits, next, err
}
