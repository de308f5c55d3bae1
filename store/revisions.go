package store

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// Revision is one accepted wanted state of a zone.
type Revision struct {
	ID        uint64    `json:"-"`
	ZoneID    uint64    `json:"-"`
	Number    uint32    `json:"number"`
	Digest    []byte    `json:"-"`
	Records   int       `json:"records"`
	Author    string    `json:"author"`
	Source    string    `json:"source"`
	Reason    string    `json:"why"` // in the words of whoever accepted it
	CreatedAt time.Time `json:"created_at"`

	Attributes *string `json:"-"` // declared attributes of sets, JSON; nil where the revision is older than that
}

// Declared returns the attributes that sets shall have by a revision; ok is false where that was not kept.
func (r Revision) Declared() (list []definition.SetAttributes, ok bool) {
	if r.Attributes == nil {
		return nil, false
	}
	return list, json.Unmarshal([]byte(*r.Attributes), &list) == nil
}

// TableName is the table that revisions are kept in.
func (Revision) TableName() string { return "revisions" }

// Chunks are cut where the hash of a name ends in zeros, so that a change moves the borders of its own chunk only, and
// all others are kept once for all revisions.
const (
	chunkMask = 1<<7 - 1 // one name in 128 ends a chunk
	chunkMost = 1024     // records
)

// piece is a chunk: its records as text, and where it ends in what was cut.
type piece struct {
	body string
	end  int
}

func chunksOf(records []record.Record) []piece {
	var chunks []piece
	var b strings.Builder
	count := 0
	for i, r := range records {
		fmt.Fprintf(&b, "%s %d %s %s\n", r.Name, r.TTL, r.Type, r.Data)
		count++
		lastOfName := i+1 == len(records) || records[i+1].Name != r.Name
		if lastOfName && (count >= chunkMost || endsChunk(r.Name)) {
			chunks = append(chunks, piece{b.String(), i + 1})
			b.Reset()
			count = 0
		}
	}
	if b.Len() > 0 {
		chunks = append(chunks, piece{b.String(), len(records)})
	}
	return chunks
}

// endsChunk reports whether a chunk ends with a name, wherever it began.
func endsChunk(n dnsname.Name) bool { return hashName(n)&chunkMask == 0 }

func hashName(n dnsname.Name) uint32 {
	h := fnv.New32a()
	_, _ = h.Write([]byte(n.Key()))
	return h.Sum32()
}

func parseChunk(body string) ([]record.Record, error) {
	lines := strings.Split(strings.TrimSuffix(body, "\n"), "\n")
	records := make([]record.Record, 0, len(lines))
	for _, line := range lines {
		fields := strings.SplitN(line, " ", 4)
		if len(fields) != 4 {
			return nil, fmt.Errorf("a stored record is damaged: %q", line)
		}
		name, err := dnsname.Parse(fields[0])
		if err != nil {
			return nil, err
		}
		ttl, err := strconv.ParseUint(fields[1], 10, 32)
		if err != nil {
			return nil, err
		}
		typ, err := record.ParseType(fields[2])
		if err != nil {
			return nil, err
		}
		records = append(records, record.Record{Name: name, TTL: uint32(ttl), Type: typ, Data: record.Data(fields[3])})
	}
	return records, nil
}

// Accepted returns who accepted a revision, from where and why.
type Accepted struct {
	Author string
	Source string
	Reason string
	From   map[record.Key]string // the kits that sets come from

	Attributes []definition.SetAttributes // that sets shall have, sorted
}

// AddRevision accepts contents as the wanted state of a zone that the transaction has locked. Contents equal to those
// of the accepted revision make no new one; made tells.
func (t *Tx) AddRevision(zone Zone, c record.Contents, by Accepted) (rev Revision, made bool, err error) {
	var base *kept
	var last Revision
	if zone.RevisionID != nil {
		if last, err = t.Revision(*zone.RevisionID); err != nil {
			return rev, false, err
		}
		base, _ = t.kept.get(last.Digest)
	}
	now, fresh := chunked(c, base)
	rev = Revision{ZoneID: zone.ID, Number: 1, Digest: []byte(now.digest), Records: c.Len(), Author: cut(by.Author, 100), Source: cut(by.Source, 255), Reason: cut(by.Reason, 500), CreatedAt: t.now()}
	attributes := attributesText(by.Attributes)
	rev.Attributes = &attributes
	if zone.RevisionID != nil && string(last.Digest) == now.digest {
		before := last.Attributes
		if before == nil {
			text := attributesText(zone.ZoneSettings().Attributes)
			before = &text
		}
		if *before == attributes {
			return last, false, nil
		}
	}
	var newest uint32
	if err := t.db.Raw("SELECT COALESCE(MAX(number), 0) FROM revisions WHERE zone_id = ?", zone.ID).Scan(&newest).Error; err != nil {
		return rev, false, err
	}
	rev.Number = newest + 1
	if err := t.db.Create(&rev).Error; err != nil {
		return rev, false, found(err, "revision %d", rev.Number)
	}
	if err := t.addChunks(rev.ID, now, fresh); err != nil {
		return rev, false, err
	}
	t.kept.put(now)
	if err := t.db.Exec("UPDATE zones SET revision_id = ? WHERE id = ?", rev.ID, zone.ID).Error; err != nil {
		return rev, false, err
	}
	if err := t.SetOrigins(rev.ID, by.From); err != nil {
		return rev, false, err
	}
	return rev, true, t.followRows(zone, rev.ID, c)
}

// attributesText writes attributes down, none like an empty list.
func attributesText(list []definition.SetAttributes) string {
	return jsonText(append([]definition.SetAttributes{}, list...))
}

// SetAttributes keeps the attributes that the sets of a zone shall have.
func (t *Tx) SetAttributes(zoneID uint64, list []definition.SetAttributes) error {
	return t.db.Exec("UPDATE zones SET attributes = ? WHERE id = ?", attributesText(list), zoneID).Error
}

// addChunks stores the chunks of a revision, and the bodies of those that are new.
func (t *Tx) addChunks(revisionID uint64, k *kept, fresh map[int]string) error {
	const atATime, bodies = 500, 50
	for some := range slices.Chunk(slices.Sorted(maps.Keys(fresh)), bodies) {
		args := make([]any, 0, 2*len(some))
		for _, i := range some {
			args = append(args, octets(k.chunks[i]), octets(fresh[i]))
		}
		if err := t.db.Exec("INSERT IGNORE INTO chunks (digest, body) VALUES "+strings.TrimSuffix(strings.Repeat("(?, ?), ", len(some)), ", "), args...).Error; err != nil {
			return err
		}
	}
	for from := 0; from < len(k.chunks); from += atATime {
		some := k.chunks[from:min(from+atATime, len(k.chunks))]
		args := make([]any, 0, 3*len(some))
		for i, digest := range some {
			args = append(args, revisionID, from+i, octets(digest))
		}
		query := "INSERT INTO revision_chunks (revision_id, seq, digest) VALUES " + strings.TrimSuffix(strings.Repeat("(?, ?, ?), ", len(some)), ", ")
		if err := t.db.Exec(query, args...).Error; err != nil {
			return err
		}
	}
	return nil
}

// SetOrigins keeps which kits the sets of a revision come from.
func (t *Tx) SetOrigins(revisionID uint64, from map[record.Key]string) error {
	if len(from) == 0 {
		return nil
	}
	body := make(map[string]string, len(from))
	for k, kit := range from {
		body[k.String()] = kit
	}
	return t.db.Exec("INSERT INTO revision_origins (revision_id, body) VALUES (?, ?) ON DUPLICATE KEY UPDATE body = VALUES(body)", revisionID, jsonText(body)).Error
}

// Origins returns which kits the sets of a revision come from, by what record.Key prints.
func (t *Tx) Origins(revisionID uint64) (from map[string]string, err error) {
	var body string
	err = t.db.Raw("SELECT body FROM revision_origins WHERE revision_id = ?", revisionID).Scan(&body).Error
	if err == nil && body != "" {
		err = json.Unmarshal([]byte(body), &from)
	}
	return from, err
}

// Revision finds a revision.
func (t *Tx) Revision(id uint64) (r Revision, err error) {
	err = t.db.Where("id = ?", id).Take(&r).Error
	return r, found(err, "revision %d", id)
}

// RevisionByNumber finds a revision of a zone.
func (t *Tx) RevisionByNumber(zoneID uint64, number uint32) (r Revision, err error) {
	err = t.db.Where("zone_id = ? AND number = ?", zoneID, number).Take(&r).Error
	return r, found(err, "revision %d", number)
}

// Revisions returns a zone's revisions, newest first.
func (t *Tx) Revisions(zoneID uint64) (list []Revision, err error) {
	err = t.db.Where("zone_id = ?", zoneID).Order("number DESC").Limit(200).Find(&list).Error
	return list, err
}

func (t *Tx) digest(revisionID uint64) ([]byte, error) {
	var of struct{ Digest []byte }
	err := t.db.Raw("SELECT digest FROM revisions WHERE id = ?", revisionID).Scan(&of).Error
	return of.Digest, err
}

// inMemory returns what a revision says, where that needs no reading.
func (t *Tx) inMemory(revisionID uint64) (c record.Contents, ok bool, err error) {
	digest, err := t.digest(revisionID)
	known, ok := t.kept.get(digest)
	if !ok || err != nil {
		return c, false, err
	}
	return known.contents, true, nil
}

// Contents returns what a revision says the zone contains.
func (t *Tx) Contents(revisionID uint64) (record.Contents, error) {
	digest, err := t.digest(revisionID)
	if err != nil {
		return record.Contents{}, err
	}
	if known, ok := t.kept.get(digest); ok {
		return known.contents, nil
	}
	var rows []struct{ Digest, Body []byte }
	if err := t.db.Raw("SELECT rc.digest, c.body FROM revision_chunks rc JOIN chunks c ON c.digest = rc.digest WHERE rc.revision_id = ? ORDER BY rc.seq", revisionID).Scan(&rows).Error; err != nil {
		return record.Contents{}, err
	}
	read, whole := &kept{digest: string(digest)}, sha256.New()
	var all []record.Record
	for _, row := range rows {
		records, err := parseChunk(string(row.Body))
		if err != nil {
			return record.Contents{}, fmt.Errorf("revision %d: %w", revisionID, err)
		}
		all = append(all, records...)
		read.chunks, read.ends = append(read.chunks, row.Digest), append(read.ends, len(all))
		_, _ = whole.Write(row.Digest)
	}
	read.contents = record.NewContents(all)
	if string(whole.Sum(nil)) == read.digest {
		t.kept.put(read)
	}
	return read.contents, nil
}

// contentsBeside returns of what a revision says the part whose chunks another one has not: where two revisions differ,
// they differ there.
func (t *Tx) contentsBeside(revisionID, otherID uint64) (record.Contents, error) {
	return t.contents(revisionID, `SELECT c.body FROM revision_chunks rc JOIN chunks c ON c.digest = rc.digest WHERE rc.revision_id = ?
		AND NOT EXISTS (SELECT 1 FROM revision_chunks o WHERE o.revision_id = ? AND o.digest = rc.digest) ORDER BY rc.seq`, revisionID, otherID)
}

func (t *Tx) contents(revisionID uint64, query string, args ...any) (record.Contents, error) {
	var bodies []string
	if err := t.db.Raw(query, args...).Scan(&bodies).Error; err != nil {
		return record.Contents{}, err
	}
	var all []record.Record
	for _, body := range bodies {
		records, err := parseChunk(body)
		if err != nil {
			return record.Contents{}, fmt.Errorf("revision %d: %w", revisionID, err)
		}
		all = append(all, records...)
	}
	return record.NewContents(all), nil
}

// CountChunks returns how many chunks of a revision are not those of another.
func (t *Tx) CountChunks(revisionID, otherID uint64) (n int, err error) {
	err = t.db.Raw("SELECT COUNT(*) FROM revision_chunks WHERE revision_id = ? AND digest NOT IN (SELECT digest FROM revision_chunks WHERE revision_id = ?)",
		revisionID, otherID).Scan(&n).Error
	return n, err
}

// ContentsFrom returns part of what a revision says: whole names, from chunk seq on, until there are at least limit records. next is the
// chunk that comes then; -1 where there is none.
func (t *Tx) ContentsFrom(revisionID uint64, seq, limit int) (c record.Contents, next int, err error) {
	var all []record.Record
	for next = seq; len(all) < limit; next++ {
		var bodies []string
		if err := t.db.Raw("SELECT c.body FROM revision_chunks rc JOIN chunks c ON c.digest = rc.digest WHERE rc.revision_id = ? AND rc.seq = ?", revisionID, next).Scan(&bodies).Error; err != nil {
			return c, 0, err
		}
		if len(bodies) == 0 {
			return record.NewContents(all), -1, nil
		}
		records, err := parseChunk(bodies[0])
		if err != nil {
			return c, 0, fmt.Errorf("revision %d: %w", revisionID, err)
		}
		all = append(all, records...)
	}
	return record.NewContents(all), next, nil
}
