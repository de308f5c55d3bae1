package practice

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/xml"
	"io"
	"net/http"
	"strings"
	"time"
)

// Lapwing's documents.
type (
	lapwingZone struct {
		XMLName xml.Name `xml:"zone"`
		Name    string   `xml:"name,attr"`
		Servers []string `xml:"server,omitempty"`
	}
	lapwingSet struct {
		XMLName xml.Name
		Owner   string   `xml:"owner,attr"`
		Type    string   `xml:"type,attr"`
		TTL     uint32   `xml:"ttl,attr,omitempty"`
		Data    []string `xml:"data,omitempty"`
	}
	lapwingList struct {
		XMLName xml.Name
		Next    string        `xml:"next,attr,omitempty"`
		Zones   []lapwingZone `xml:"zone,omitempty"`
		Sets    []lapwingSet  `xml:",any,omitempty"`
	}
	lapwingFault struct {
		XMLName xml.Name `xml:"fault"`
		Code    string   `xml:"code,attr"`
		Text    string   `xml:",chardata"`
	}
)

func sayXML(rw http.ResponseWriter, status int, v any) {
	rw.Header().Set("Content-Type", "application/xml")
	rw.WriteHeader(status)
	_, _ = io.WriteString(rw, xml.Header)
	_ = xml.NewEncoder(rw).Encode(v)
}

func refuseXML(rw http.ResponseWriter, status int, code, message string) {
	sayXML(rw, status, lapwingFault{Code: code, Text: message})
}

// lapwingPage is how many sets a page has.
const lapwingPage = 100

// lapwing is the interface of a provider that speaks XML and wants every request signed, with a key for each day.
func (w *World) lapwing() http.Handler {
	p := w.state.Providers["lapwing"]
	show := func(z *hostedZone) lapwingZone { return lapwingZone{Name: z.Name, Servers: p.nameservers(z)} }
	mux := http.NewServeMux()
	mux.HandleFunc("GET /xml/zones", func(rw http.ResponseWriter, _ *http.Request) {
		list := lapwingList{XMLName: xml.Name{Local: "zones"}}
		for _, name := range sortedKeys(p.Zones) {
			list.Zones = append(list.Zones, show(p.Zones[name]))
		}
		sayXML(rw, http.StatusOK, list)
	})
	mux.HandleFunc("POST /xml/zones", func(rw http.ResponseWriter, r *http.Request) {
		var in lapwingZone
		err := xml.NewDecoder(r.Body).Decode(&in)
		z, ok := p.makeZone(in.Name)
		if err != nil || !ok {
			refuseXML(rw, http.StatusConflict, "zone-exists", in.Name+" is here, or cannot be a zone")
			return
		}
		w.changed()
		sayXML(rw, http.StatusCreated, show(z))
	})
	with := func(next func(http.ResponseWriter, *http.Request, *hostedZone)) http.HandlerFunc {
		return p.in(refuseXML, next)
	}
	mux.HandleFunc("DELETE /xml/zones/{zone}", with(func(rw http.ResponseWriter, _ *http.Request, z *hostedZone) {
		delete(p.Zones, z.Name)
		w.changed()
		sayXML(rw, http.StatusOK, lapwingList{XMLName: xml.Name{Local: "done"}})
	}))
	mux.HandleFunc("GET /xml/zones/{zone}/sets", with(func(rw http.ResponseWriter, r *http.Request, z *hostedZone) {
		list := lapwingList{XMLName: xml.Name{Local: "sets"}}
		after := r.URL.Query().Get("after")
		for _, s := range z.sets(w.shown(lapwingAPI, p, z).Records) {
			if s.Name+" "+s.Type <= after {
				continue
			}
			if n := len(list.Sets); n == lapwingPage {
				list.Next = list.Sets[n-1].Owner + " " + list.Sets[n-1].Type
				break
			}
			list.Sets = append(list.Sets, lapwingSet{xml.Name{Local: "set"}, s.Name, s.Type, s.TTL, s.Values})
		}
		sayXML(rw, http.StatusOK, list)
	}))
	mux.HandleFunc("POST /xml/zones/{zone}/changes", with(func(rw http.ResponseWriter, r *http.Request, z *hostedZone) {
		var in lapwingList
		err := xml.NewDecoder(r.Body).Decode(&in)
		var sets []recordSet
		for _, s := range in.Sets {
			if s.XMLName.Local == "drop" {
				s.Data = nil
			}
			sets = append(sets, recordSet{s.Owner, s.Type, s.TTL, s.Data})
		}
		if err == nil {
			err = z.with(sets)
		}
		if err != nil {
			refuseXML(rw, http.StatusUnprocessableEntity, "refused", err.Error())
			return
		}
		w.changed()
		sayXML(rw, http.StatusOK, lapwingList{XMLName: xml.Name{Local: "done"}})
	}))
	return w.locked("lapwing", lapwingSigned, mux)
}

// lapwingSigned takes a signature over method, address, time and body, made with a key that is derived from the secret for the day.
func lapwingSigned(r *http.Request) (string, bool) {
	id, signature, ok := strings.Cut(strings.TrimPrefix(r.Header.Get("Authorization"), "LW1 "), "/")
	at, err := time.Parse("20060102T150405Z", r.Header.Get("Lapwing-Time"))
	if !ok || err != nil || time.Since(at).Abs() > 5*time.Minute {
		return "", false
	}
	body, err := io.ReadAll(io.LimitReader(r.Body, 8<<20))
	if err != nil {
		return "", false
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	sum := sha256.Sum256(body)
	mac := func(key []byte, text string) []byte {
		m := hmac.New(sha256.New, key)
		m.Write([]byte(text))
		return m.Sum(nil)
	}
	for key := range tokens["lapwing"] {
		name, secret, _ := strings.Cut(key, ":")
		day := mac([]byte("LW1"+secret), at.Format("20060102"))
		over := strings.Join([]string{r.Method, r.URL.EscapedPath(), strings.ReplaceAll(r.URL.Query().Encode(), "+", "%20"), r.Header.Get("Lapwing-Time"), hex.EncodeToString(sum[:])}, "\n")
		if name == id && hmac.Equal([]byte(hex.EncodeToString(mac(mac(day, "zones"), over))), []byte(signature)) {
			return key, true
		}
	}
	return "", false
}
