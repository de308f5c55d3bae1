package api

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/wire"
)

// BenchmarkSearch asks two million records (BEACON_BENCH_RECORDS for another number) through the API, by each way in which
// they are found, and gives how long 99 of 100 questions take at most. Filling the tables comes first, and takes minutes.
func BenchmarkSearch(b *testing.B) {
	const perZone = 50_000
	n, err := strconv.Atoi(os.Getenv("BEACON_BENCH_RECORDS"))
	if err != nil {
		n = 2_000_000
	}
	s := newSite(b)
	svc := s.open()
	b.Cleanup(svc.Close)
	running, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { svc.Run(running); close(done) }()
	b.Cleanup(func() { stop(); <-done })
	start := time.Now()
	zones := n / perZone
	for z := range zones {
		name := dnsname.MustParse(fmt.Sprintf("pier-%03d.example", z))
		var text strings.Builder
		text.WriteString("$TTL 3600\n")
		for i := range perZone {
			r := z*perZone + i
			switch i % 5 {
			case 0, 1:
				fmt.Fprintf(&text, "host-%07d A 10.%d.%d.%d\n", r, r>>16&255, r>>8&255, r&255)
			case 2:
				fmt.Fprintf(&text, "gate-%07d AAAA 2001:db8::%x:%x\n", r, r>>16, r&0xffff)
			case 3:
				fmt.Fprintf(&text, "link-%07d CNAME web-%05d.harbour.example.\n", r, r%50_000)
			default:
				fmt.Fprintf(&text, "mark-%07d 300 TXT \"buoy %d of line %d\"\n", r, r, r%1000)
			}
		}
		if _, err := svc.Zones.ImportZone(context.Background(), access.Service, wire.Import{Zone: name, Partial: true, File: "bench", Text: text.String()}); err != nil {
			b.Fatal(err)
		}
	}
	for { // the last row is there
		if status, _, body := s.ask("GET", Base+fmt.Sprintf("/records?name=mark-%07d.pier-%03d.example", n-1, zones-1), ""); status == http.StatusOK && len(body["items"].([]any)) == 1 {
			break
		}
		time.Sleep(500 * time.Millisecond)
	}
	b.ReportMetric(time.Since(start).Seconds(), "fill-s")
	b.ReportMetric(0, "ns/op")
	any := func(most int) int { return rand.IntN(most) }
	host := func() int { z := any(zones); return z*perZone + any(perZone/5)*5 }
	for _, way := range []struct {
		name string
		ask  func() string
	}{
		{"name", func() string { r := host(); return fmt.Sprintf("name=host-%07d.pier-%03d.example", r, r/perZone) }},
		{"name-begins", func() string { return fmt.Sprintf("name=host-%05d*", host()/100) }},
		{"name-ends", func() string { return fmt.Sprintf("name=*%02d.pier-%03d.example", any(100), any(zones)) }},
		{"value", func() string { return fmt.Sprintf("value=web-%05d.harbour.example", any(50_000)) }},
		{"value-begins", func() string { return "value=" + url.QueryEscape(fmt.Sprintf("buoy %d*", any(n)/10)) }},
		{"value-ends", func() string { return "value=" + url.QueryEscape(fmt.Sprintf("*of line %d", any(1000))) }},
		{"address", func() string { r := host(); return fmt.Sprintf("address=10.%d.%d.%d", r>>16&255, r>>8&255, r&255) }},
		{"network", func() string { r := host(); return fmt.Sprintf("address=10.%d.%d.0/24", r>>16&255, r>>8&255) }},
		{"wide-network", func() string { return fmt.Sprintf("address=10.%d.0.0/16", host()>>16&255) }},
		{"text", func() string { r := host(); return fmt.Sprintf("text=10.%d.%d.%d", r>>16&255, r>>8&255, r&255) }},
	} {
		var took []time.Duration
		for range 500 {
			ask := Base + "/records?limit=100&" + way.ask()
			at := time.Now()
			status, _, body := s.ask("GET", ask, "")
			took = append(took, time.Since(at))
			if status != http.StatusOK {
				b.Fatal(ask, status, body)
			}
		}
		slices.Sort(took)
		b.ReportMetric(took[len(took)*99/100].Seconds()*1000, way.name+"-p99-ms")
	}
}
