package demo

import (
	"context"
)

// signals is a domain at the registrar and the providers with other interfaces: it is placed at two providers, and delegated to one of them.
const signals = "signal-flags.example"

const signalsFile = `zones:
  signal-flags.example:
    description: Flags and lights, at two providers
    providers: [whimbrel-lab, lapwing-lab]
    registrar: skua-names
    delegate_to: whimbrel-lab
    records: |
      @      1h  A    192.0.2.41
      www    1h  A    192.0.2.41
      @      1h  MX   10 mx1.post.example.
      @      1h  TXT  "v=spf1 mx -all"
      flags  1h  TXT  "twenty-six letters; ten figures"
`

// addInterfaces connects the registrar and the providers whose interfaces are less usual, with a domain.
func (s *Stage) addInterfaces(ctx context.Context) error {
	for _, a := range []map[string]any{
		{"name": "whimbrel-lab", "role": "provider", "kind": "whimbrel", "address": s.Site("whimbrel"), "parts": map[string]string{"client_id": "desk", "client_secret": "whimbrel-practice-secret"}},
		{"name": "lapwing-lab", "role": "provider", "kind": "lapwing", "address": s.Site("lapwing"), "parts": map[string]string{"key_id": "desk", "secret": "lapwing-practice-secret"}},
		{"name": "skua-names", "role": "registrar", "kind": "skua", "address": s.Site("skua"), "secret": "skua-practice-key"},
	} {
		if err := s.make(ctx, "admin", "/accounts", a, nil); err != nil {
			return err
		}
	}
	if err := s.Control(ctx, "/domains", map[string]any{"domain": signals, "hosts": []string{"reed-11.plover.test", "reed-14.plover.test"}, "registrar": "skua"}); err != nil {
		return err
	}
	body := map[string]any{"files": []map[string]string{{"name": "signal-flags.beacon.yaml", "text": signalsFile}}, "sync": true, "reason": "signals of the harbour"}
	if err := s.api(ctx, "ines", "POST", "/definitions", body, nil); err != nil {
		return err
	}
	for _, provider := range []string{"whimbrel", "lapwing"} {
		if err := s.served(ctx, provider, signals); err != nil {
			return err
		}
	}
	hosts, err := s.nameservers(ctx, "whimbrel", signals)
	if err != nil {
		return err
	}
	return s.Control(ctx, "/domains", map[string]any{"domain": signals, "hosts": hosts, "registrar": "skua"})
}
