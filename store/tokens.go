package store

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
)

// Session is a sign-in of a user, without the text of its token.
type Session struct {
	ID        uint64
	Label     string
	CreatedAt time.Time
	ExpiresAt time.Time
	Current   bool // it is the one that was given
}

// Sessions returns the valid sessions of a user, newest first.
func (t *Tx) Sessions(userID uint64, current string) (list []Session, err error) {
	err = t.db.Raw("SELECT id, label, created_at, expires_at, hash = ? AS current FROM tokens WHERE user_id = ? AND name IS NULL AND expires_at > ? ORDER BY id DESC",
		octets(hashToken(current)), userID, t.now()).Scan(&list).Error
	return list, err
}

// EndSession makes a session of a user invalid.
func (t *Tx) EndSession(userID, id uint64) error {
	res := t.db.Exec("DELETE FROM tokens WHERE id = ? AND user_id = ? AND name IS NULL", id, userID)
	if res.Error == nil && res.RowsAffected == 0 {
		return fmt.Errorf("session %d: %w", id, ErrNotFound)
	}
	return res.Error
}

// EndSessions makes all sessions of a user invalid but the one that is given, which may be empty, and returns how many.
func (t *Tx) EndSessions(name, but string) (ended int, err error) {
	res := t.db.Exec("DELETE t FROM tokens t JOIN users u ON u.id = t.user_id WHERE u.name = ? AND t.name IS NULL AND t.hash <> ?", name, octets(hashToken(but)))
	return int(res.RowsAffected), res.Error
}

// token is a row of tokens: a session (without name and host), a machine token (with a name), or that of an uplink.
type token struct {
	ID            uint64
	UserID        *uint64 // of the session's user, or of the maker; none for uplinks
	UplinkID      *uint64
	Name          *string
	Label         string // of a session
	Begins        string // the first characters of the text
	Hash          []byte
	PreviousHash  []byte // that it had before it was renewed
	PreviousUntil *time.Time
	Grants        *string // JSON, of a machine token
	Networks      string  // that it may come from, separated by commas; empty for all
	CreatedAt     time.Time
	ExpiresAt     *time.Time
}

// newToken returns the text of a token.
func newToken(kind access.TokenKind) string {
	var secret [32]byte
	_, _ = rand.Read(secret[:]) // it never fails (crypto/rand)
	return access.TokenText(kind, secret)
}

func hashToken(text string) []byte {
	sum := sha256.Sum256([]byte(text))
	return sum[:]
}

// AddSession makes a session of a user and returns the text of its token, which is kept nowhere.
func (t *Tx) AddSession(userID uint64, label string, lifetime time.Duration) (text string, expires time.Time, err error) {
	text = newToken(access.SessionToken)
	now := t.now()
	expires = now.Add(lifetime)
	row := token{UserID: &userID, Label: cut(label, 100), Begins: access.TokenBegins(text), Hash: hashToken(text), CreatedAt: now, ExpiresAt: &expires}
	return text, expires, t.db.Create(&row).Error
}

// NewToken is a machine token that is to be made.
type NewToken struct {
	UserID   uint64 // of the maker
	Name     string
	Grants   []access.Grant
	Networks []netip.Prefix // that it may come from; empty for all
	Expires  *time.Time     // nil for never
}

// AddToken makes a machine token and returns its text, which is kept nowhere.
func (t *Tx) AddToken(n NewToken) (text string, err error) {
	grants, err := json.Marshal(n.Grants)
	if err != nil {
		return "", err
	}
	text = newToken(access.MachineToken)
	words := string(grants)
	row := token{UserID: &n.UserID, Name: &n.Name, Begins: access.TokenBegins(text), Hash: hashToken(text), Grants: &words,
		Networks: networksText(n.Networks), CreatedAt: t.now(), ExpiresAt: n.Expires}
	return text, found(t.db.Create(&row).Error, "token %s", n.Name)
}

func networksText(list []netip.Prefix) string {
	texts := make([]string, len(list))
	for i, p := range list {
		texts[i] = p.String()
	}
	return strings.Join(texts, ",")
}

// TokenRow is a valid token with who stands behind it.
type TokenRow struct {
	ID            uint64
	UserID        uint64
	UplinkID      uint64 // that it reports for; 0 for none
	Name          string // of a machine token
	User          string // who signed in, or made it
	Begins        string
	Networks      []netip.Prefix
	Grants        []access.Grant // of a machine token; of a host's, that it reports its address
	UserGrants    []access.Grant
	CreatedAt     time.Time
	ExpiresAt     *time.Time
	PreviousUntil *time.Time // the text from before the renewal is valid until then
	FirstUsedAt   *time.Time
	FirstUsedFrom string
	LastUsedAt    *time.Time
	LastUsedFrom  string
	Used          []access.Action
	Host          dnsname.Name // that the uplink is for alone; the zero Name where it is of a location
	Location      string       // of the uplink; empty where it is for one host
	Uplink        string       // its name

	locationID uint64
	version    uint64
	madeBy     string // who made the location
}

// Kind is what the token is for.
func (r TokenRow) Kind() access.TokenKind {
	switch {
	case r.UplinkID != 0:
		return access.HostToken
	case r.Name != "":
		return access.MachineToken
	}
	return access.SessionToken
}

// Caller is who comes with the token.
func (r TokenRow) Caller() access.Caller {
	switch r.Kind() {
	case access.HostToken:
		name := "host " + r.Host.String()
		if r.Location != "" {
			name = "uplink " + HostTokenName(r.Host, r.Location, r.Uplink)
		}
		return access.Caller{Name: name, Token: name, Grants: r.Grants, TokenID: r.ID, Uplink: r.UplinkID, Location: r.locationID, Version: r.version}
	case access.MachineToken:
		return access.Caller{UserID: r.UserID, Name: "token " + r.Name, Token: r.Name, Grants: r.Grants, Within: r.UserGrants, TokenOf: true, TokenID: r.ID}
	}
	return access.Caller{UserID: r.UserID, Name: r.User, Grants: r.UserGrants, TokenID: r.ID}
}

// From reports whether the token may come from an address.
func (r TokenRow) From(addr netip.Addr) bool {
	return len(r.Networks) == 0 || slices.ContainsFunc(r.Networks, func(p netip.Prefix) bool { return p.Contains(addr.Unmap()) })
}

// tokenRows are the columns of tokens with their users and hosts.
const tokenRows = `SELECT t.id, COALESCE(t.user_id, 0) AS user_id, COALESCE(t.uplink_id, 0) AS uplink_id, COALESCE(t.name, '') AS name, COALESCE(u.name, '') AS user, t.begins,
	t.networks, COALESCE(t.grants, '') AS grants, COALESCE(u.grants, '') AS user_grants, t.created_at, t.expires_at, t.previous_until,
	t.first_used_at, t.first_used_from, t.last_used_at, t.last_used_from, t.used, l.name AS location, k.name AS uplink, k.location_id, l.version, l.created_by AS made_by, h.name_key AS host_key, z.name_key AS zone_key
	FROM tokens t LEFT JOIN users u ON u.id = t.user_id LEFT JOIN uplinks k ON k.id = t.uplink_id LEFT JOIN locations l ON l.id = k.location_id
	LEFT JOIN hosts h ON h.location_id = l.id AND l.name IS NULL LEFT JOIN zones z ON z.id = h.zone_id `

// readTokens reads the rows of a query that begins with tokenRows.
func (t *Tx) readTokens(query string, args ...any) (list []TokenRow, err error) {
	var rows []struct {
		ID, UserID, UplinkID               uint64
		Name, User, Begins                 string
		Networks, Grants, UserGrants, Used string
		CreatedAt                          time.Time
		ExpiresAt, PreviousUntil           *time.Time
		FirstUsedAt, LastUsedAt            *time.Time
		FirstUsedFrom, LastUsedFrom        string
		Location, Uplink, HostKey, ZoneKey string
		LocationID, Version                uint64
		MadeBy                             string
	}
	if err := t.db.Raw(tokenRows+query, args...).Scan(&rows).Error; err != nil {
		return nil, err
	}
	for _, row := range rows {
		r := TokenRow{ID: row.ID, UserID: row.UserID, UplinkID: row.UplinkID, Location: row.Location, Uplink: row.Uplink, Name: row.Name, User: row.User, Begins: row.Begins, CreatedAt: row.CreatedAt,
			ExpiresAt: row.ExpiresAt, PreviousUntil: row.PreviousUntil, FirstUsedAt: row.FirstUsedAt, LastUsedAt: row.LastUsedAt,
			FirstUsedFrom: row.FirstUsedFrom, LastUsedFrom: row.LastUsedFrom, locationID: row.LocationID, version: row.Version, madeBy: row.MadeBy}
		for text := range strings.SplitSeq(row.Networks, ",") {
			if p, err := netip.ParsePrefix(text); err == nil {
				r.Networks = append(r.Networks, p)
			} else if text != "" {
				return nil, fmt.Errorf("the networks of token %s: %w", r.Name, err)
			}
		}
		if r.Grants, err = grantsOf(row.Grants); err == nil {
			r.UserGrants, err = grantsOf(row.UserGrants)
		}
		if err != nil {
			return nil, fmt.Errorf("the grants of token %s: %w", r.Name, err)
		}
		for text := range strings.SplitSeq(row.Used, ",") {
			if text != "" {
				r.Used = append(r.Used, access.Action(text))
			}
		}
		if r.UplinkID != 0 && row.HostKey != "" {
			r.Host = dnsname.FromKey(row.HostKey)
			names, err := access.ParseNames(r.Host.Relative(dnsname.FromKey(row.ZoneKey)))
			if err != nil {
				return nil, fmt.Errorf("the token of host %s: %w", r.Host, err)
			}
			r.Grants = []access.Grant{{Actions: []access.Action{access.Report}, Zones: []access.Zones{{Name: dnsname.FromKey(row.ZoneKey)}}, Names: []access.Names{names}}}
		}
		list = append(list, r)
	}
	return list, nil
}

// grantsOf reads grants as they are kept.
func grantsOf(text string) (list []access.Grant, err error) {
	if text != "" {
		err = json.Unmarshal([]byte(text), &list)
	}
	return list, err
}

// firstLabel marks the codes of a first start: tokens of nobody.
const firstLabel = "first user"

// AddFirstCode makes a code for the first user and returns its text, which is kept nowhere.
func (t *Tx) AddFirstCode(lifetime time.Duration) (text string, err error) {
	text = newToken(access.FirstCode)
	expires := t.now().Add(lifetime)
	row := token{Label: firstLabel, Begins: access.TokenBegins(text), Hash: hashToken(text), CreatedAt: t.now(), ExpiresAt: &expires}
	return text, t.db.Create(&row).Error
}

// FirstCodeValid reports whether a code for the first user is valid.
func (t *Tx) FirstCodeValid(text string) (is bool, err error) {
	err = t.db.Raw("SELECT COUNT(*) > 0 FROM tokens WHERE hash = ? AND user_id IS NULL AND uplink_id IS NULL AND expires_at > ?", octets(hashToken(text)), t.now()).Scan(&is).Error
	return is, err
}

// DropFirstCodes makes all codes for the first user invalid.
func (t *Tx) DropFirstCodes() error {
	return t.db.Exec("DELETE FROM tokens WHERE user_id IS NULL AND uplink_id IS NULL").Error
}

// valid is the condition for a token with a hash at a time; the hash and the time are given twice.
const valid = "(t.hash = ? OR t.previous_hash = ? AND t.previous_until > ?) AND (t.expires_at IS NULL OR t.expires_at > ?)"

// TokenOf finds a valid token by its text.
func (t *Tx) TokenOf(text string) (TokenRow, error) {
	hash, now := octets(hashToken(text)), t.now()
	return t.oneToken("token", "WHERE "+valid+" AND COALESCE(t.user_id, t.uplink_id) IS NOT NULL LIMIT 1", hash, hash, now, now)
}

func (t *Tx) oneToken(what, query string, args ...any) (TokenRow, error) {
	list, err := t.readTokens(query, args...)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("%s: %w", what, ErrNotFound)
	}
	if err != nil {
		return TokenRow{}, err
	}
	return list[0], nil
}

// MachineToken finds a machine token by its name, also one that has expired.
func (t *Tx) MachineToken(name string) (TokenRow, error) {
	return t.oneToken("token "+name, "WHERE t.name = ? LIMIT 1", name)
}

// HostToken finds the token of a host.
func (t *Tx) HostToken(host dnsname.Name) (TokenRow, error) {
	return t.oneToken("token of host "+host.Unicode(), "WHERE h.name_key = ? LIMIT 1", octets(host.Key()))
}

// UplinkToken finds the token of an uplink of a location.
func (t *Tx) UplinkToken(location, uplink string) (TokenRow, error) {
	return t.oneToken("token of uplink "+location+"/"+uplink, "WHERE l.name = ? AND k.name = ? LIMIT 1", location, uplink)
}

// UplinkOf returns the names that follow the uplink which a token reports for, and who made its location.
func (t *Tx) UplinkOf(r TokenRow) (hosts []access.Object, maker string, err error) {
	var rows []struct{ NameKey, ZoneKey string }
	err = t.db.Raw("SELECT h.name_key, z.name_key AS zone_key FROM hosts h JOIN zones z ON z.id = h.zone_id WHERE h.location_id = ?", r.locationID).Scan(&rows).Error
	for _, row := range rows {
		hosts = append(hosts, access.Object{Zone: dnsname.FromKey(row.ZoneKey), Name: dnsname.FromKey(row.NameKey)})
	}
	return hosts, r.madeBy, err
}

// Tokens returns machine tokens and those of hosts and uplinks, by name: of one maker, or of all where it is 0, without those of hosts then.
func (t *Tx) Tokens(maker uint64) ([]TokenRow, error) {
	if maker != 0 {
		return t.readTokens("WHERE t.name IS NOT NULL AND t.user_id = ? ORDER BY t.name", maker)
	}
	return t.readTokens("WHERE t.name IS NOT NULL OR t.uplink_id IS NOT NULL ORDER BY t.name IS NULL, t.name, h.name_key IS NULL, h.name_key, l.name, k.place")
}

// TokenUsed notes that a token was used from an address, for an action: the first and the last time, to the minute, and which actions.
func (t *Tx) TokenUsed(r TokenRow, from netip.Addr, action access.Action) error {
	now := t.now()
	if r.Kind() == access.SessionToken { // only that it is used, which is enough for a user
		action = ""
	}
	fresh := r.LastUsedAt != nil && now.Sub(*r.LastUsedAt) < time.Minute && (r.LastUsedFrom == from.String() || r.Kind() == access.SessionToken)
	if fresh && (action == "" || slices.Contains(r.Used, action)) {
		return nil
	}
	used := []string{}
	for _, a := range r.Used {
		used = append(used, string(a))
	}
	if action != "" && !slices.Contains(r.Used, action) {
		used = append(used, string(action))
	}
	return t.db.Exec(`UPDATE tokens SET last_used_at = ?, last_used_from = ?, used = ?, first_used_from = IF(first_used_at IS NULL, ?, first_used_from),
		first_used_at = COALESCE(first_used_at, ?) WHERE id = ?`, now, from.String(), strings.Join(used, ","), from.String(), now, r.ID).Error
}

// RenewToken gives a token another text, which is kept nowhere. The one until now stays valid until a time.
func (t *Tx) RenewToken(r TokenRow, until time.Time, expires *time.Time) (text string, err error) {
	text = newToken(r.Kind())
	return text, t.db.Exec("UPDATE tokens SET previous_hash = hash, previous_until = ?, hash = ?, begins = ?, expires_at = ? WHERE id = ?",
		until, octets(hashToken(text)), access.TokenBegins(text), expires, r.ID).Error
}

// RevokeToken makes the token of an uplink invalid. It can be renewed.
func (t *Tx) RevokeToken(id uint64) error {
	return t.db.Exec("UPDATE tokens SET hash = ?, begins = '', previous_hash = NULL, previous_until = NULL WHERE id = ?", octets(hashToken(newToken(access.HostToken))), id).Error
}

// RemoveToken forgets a machine token.
func (t *Tx) RemoveToken(id uint64) error {
	return t.db.Exec("DELETE FROM tokens WHERE id = ?", id).Error
}

// ValidTokens returns which of some tokens are valid.
func (t *Tx) ValidTokens(texts []string) (map[string]bool, error) {
	is := map[string]bool{}
	for some := range slices.Chunk(texts, 1000) {
		hashes, of := make([]octets, len(some)), map[string]string{}
		for i, text := range some {
			hash := hashToken(text)
			hashes[i], of[string(hash)] = octets(hash), text
		}
		now := t.now()
		var rows [][]byte
		err := t.db.Raw(`SELECT hash FROM tokens WHERE hash IN ? AND (expires_at IS NULL OR expires_at > ?)
			UNION ALL SELECT previous_hash FROM tokens WHERE previous_hash IN ? AND previous_until > ? AND (expires_at IS NULL OR expires_at > ?)`,
			hashes, now, hashes, now, now).Scan(&rows).Error
		if err != nil {
			return nil, err
		}
		for _, hash := range rows {
			is[of[string(hash)]] = true
		}
	}
	return is, nil
}

// DropToken makes the token of a session invalid.
func (t *Tx) DropToken(text string) error {
	return t.db.Exec("DELETE FROM tokens WHERE hash = ? AND name IS NULL AND uplink_id IS NULL", octets(hashToken(text))).Error
}
