package demo

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"time"
)

// act is one step of the tour: what is said about it, the command, and what must come of it.
type act struct {
	says   string
	run    string // arguments of beacon
	exit   int
	expect []string // regular expressions that the output must match
}

var acts = []act{
	{"Saltmarsh Ferries runs a booking site, pier cameras and tide gauges under saltmarsh-ferries.example.\n" +
		"The domain is registered at Gannet and answered by Plover. Move it to Heron.\n" +
		"First: sign in.", "sign-in --as admin --password-file password", 0, []string{"Signed in"}},
	{"What does the registrar hold? These are the old nameservers.", "registrar domains gannet-main", 0, []string{"active", `reed-\d+\.plover\.test`}},
	{"The state of the domain from outside: registrar, parent, nameservers, resolvers. All old, all well.\n" +
		"(This look also fills the caches of the three resolvers with the old answers, as visitors would.)",
		"check saltmarsh-ferries.example", 0, []string{"SETTLED", "harbour", "lighthouse", "dinghy"}},
	{"Find its records where it is served now: the old provider's account is connected, and has them all. Without it they\n" +
		"would be transferred, followed along the NSEC chain, or asked for name by name.",
		"zone gather saltmarsh-ferries.example", 0, []string{"account +plover-old +complete", `1\d record sets found`}},
	{"They become the desired records. SOA and apex NS are the old provider's own and stay behind.",
		"zone gather saltmarsh-ferries.example --accept --yes", 0, []string{`\d+ records added, 0 removed`, "revision 1"}},
	{"A definition file places the zone at Heron, with the same records.\n" +
		"Heron does not have the zone yet: it is made there, and the change list puts every record set in.",
		"apply saltmarsh-ferries.beacon.yaml --yes", 0, []string{"0 added, 0 removed", "new: heron-main", `\d+ added, 0 changed, 0 removed, in \d+ request`, "1 in sync"}},
	{"The new nameservers answer. Now the move itself, as a handover: both sides are compared, and each step waits until it\n" +
		"loses no answer. Nothing at the registrar changes before it is allowed.",
		"handover begin saltmarsh-ferries.example --to heron-main --from plover-old --grace 2m --yes", 0, []string{`plover-old -> heron-main`, "It goes on in the background"}},
	{"What does it ask for?", "handover show saltmarsh-ferries.example --wait 30s", 0, []string{"both sides answer the same", "Allow: Change the nameservers at gannet-main", "you have to allow it"}},
	{"Allow it.", "handover next saltmarsh-ferries.example --allow delegate --yes", 0, []string{"It goes on in the background"}},
	{"", "handover show saltmarsh-ferries.example --wait 4s", 2, []string{"Change the nameservers at gannet-main", "handover back"}},
	{"Who still sees the old answer, and until when? Every parent server serves the new set; the resolvers may hold on\n" +
		"to the old one as long as its TTLs allow, which were seen before the switch.",
		"check saltmarsh-ferries.example", 2, []string{"SETTLING by", "at the latest", `expires\s+by|new +through`}},
	{"Watch it settle. Simulated time runs sixty times as fast as real time here.",
		"watch saltmarsh-ferries.example --limit 75s", 0, []string{"SETTLED"}},
	{"The last thing that it asks for: no cache asks the old nameservers any more, and the old zone can go.",
		"handover show saltmarsh-ferries.example --wait 60s", 0, []string{"Allow: Remove the old zone from plover-old"}},
	{"", "handover next saltmarsh-ferries.example --allow retire --yes", 0, []string{"It goes on in the background"}},
	{"", "handover show saltmarsh-ferries.example --wait 60s", 0, []string{"Remove the old zone from plover-old", "The handover is done"}},
	{"Done. Once more the whole chain, and what the logbook kept.", "check saltmarsh-ferries.example", 0, []string{"SETTLED", "quay-"}},
	{"Later the booking site moves to a new web host. Only its two addresses change, and they settle by their own, short TTL.",
		"apply new-web-host.beacon.yaml --yes", 0, []string{"0 added, 2 changed, 0 removed", "1 in sync"}},
	{"", "check saltmarsh-ferries.example", 2, []string{"SETTLING by", "settles by"}},
	{"Five minutes of the world are five seconds here.", "watch saltmarsh-ferries.example --limit 30s", 0, []string{"SETTLED"}},
	{"A camera on the pier sits behind a mobile router whose address changes. Its name follows: the camera gets a\n" +
		"token that can report this one address, and nothing else.",
		"host add pier-cam.saltmarsh-ferries.example --token-file pier-cam.token", 0, []string{"follows the address"}},
	{"The reporter runs beside the camera and reports.",
		"host report --once --token-file pier-cam.token --v4 198.51.100.77", 0, []string{"accepted"}},
	{"Again the same: nothing is written. A private address is refused.",
		"host report --once --token-file pier-cam.token --v4 198.51.100.77", 0, []string{"unchanged"}},
	{"", "host report --once --token-file pier-cam.token --v4 10.0.0.7", 1, []string{"refused: 10.0.0.7 is private"}},
	{"How long did it take until the nameservers served the new address?",
		"host show pier-cam.saltmarsh-ferries.example --wait 30s", 0, []string{`address\s+198\.51\.100\.77`, `written \+\d+ ms,  visible \+\d+ ms`}},
	{"The piers have websites of their own. A kit holds what they share; each record names its source.",
		"apply piers.beacon.yaml --dry-run", 0, []string{"north-pier.example", "from kit pier-site", "kits +pier-site"}},
	{"", "apply piers.beacon.yaml --yes --once", 0, []string{"saved as revision 1", "3 in sync"}},
	{"The web host moves once more. Who points at it? And all of them in one step.",
		"search 192.0.2.41", 0, []string{`north-pier\.example +@ +300 +A`, `south-pier\.example`, `saltmarsh-ferries\.example`}},
	{"A definition file manages the ferries' zone: it is changed there, and skipped here.",
		"record replace 192.0.2.41 --to 192.0.2.42 --skip-managed --yes --sync", 0, []string{"managed by definition files", "Bulk change 1: 2 records changed in 2 zones", "done"}},
	{"It was too early. One step back.", "operation undo 1 --yes --sync", 0, []string{"Bulk change 2: 2 records changed in 2 zones"}},
	{"A user in a hurry changes the ferries' zone by hand. Its file would undo that one day: it is refused ...",
		"record add saltmarsh-ferries.example cam-2 A 198.51.100.18 --ttl 1m", 1, []string{"managed by the definition file new-web-host.beacon.yaml", "beacon zone detach"}},
	{"... unless the user detaches the zone. The command prints its definition.",
		"zone detach saltmarsh-ferries.example --yes", 0, []string{"can be changed here now", "zones:", "registrar: gannet-main"}},
	{"", "record add saltmarsh-ferries.example cam-2 A 198.51.100.18 --ttl 1m --sync --reason camera", 0, []string{`\+ cam-2 A`, "saved as revision", "done"}},
	{"", "zone history saltmarsh-ferries.example", 0, []string{"draft: camera"}},
	{"What can the new provider do, and what may our credential there do?", "provider show heron-main", 0, []string{"record sets, at most 20 in a request", "read records, write records"}},
}

// after are the steps that follow once somebody has changed a record at the provider's own site.
var after = []act{
	{"Another user has changed the north gauge at the provider's own site. It shows ...",
		"drift saltmarsh-ferries.example", 0, []string{`gauge-north A`, `198\.51\.100\.21`, `198\.51\.100\.200`, "--revert"}},
	{"... and is reverted.", "drift saltmarsh-ferries.example --revert --yes", 0, []string{"changed elsewhere|gauge-north", "0 added, 1 changed", "done"}},
	{"", "drift", 0, []string{"in sync"}},
	{"All of it is in the logbook.", "domains", 0, []string{"settled"}},
	{"", "logbook --limit 12", 0, []string{"zone.detached", "draft.accepted", "sync.done"}},
}

// Tour goes through the scenario on a fresh stage, prints each command and what came back, and fails at the first
// thing that is not as it must be.
func Tour(ctx context.Context, opt Options, out io.Writer) error {
	if err := os.RemoveAll(opt.Dir); err != nil {
		return err
	}
	begun := time.Now()
	fmt.Fprintf(out, "Starting a fresh practice world, database and service ...\n")
	s, err := Start(ctx, opt)
	if err != nil {
		return err
	}
	defer s.Stop()
	fmt.Fprintf(out, "up after %.1f s, at %s\n", time.Since(begun).Seconds(), s.Address())
	for i, a := range append(slices.Clone(acts), after...) {
		if i == len(acts) {
			if err := s.ByHand(ctx, "heron", Domain, "gauge-north."+Domain+". 3600 IN A 198.51.100.200"); err != nil {
				return err
			}
		}
		if a.says != "" {
			fmt.Fprintf(out, "\n── %s\n", strings.ReplaceAll(a.says, "\n", "\n   "))
		}
		fmt.Fprintf(out, "\n$ beacon %s\n", a.run)
		if err := s.perform(ctx, a, out); err != nil {
			return fmt.Errorf("step %d, beacon %s: %w", i+1, a.run, err)
		}
	}
	fmt.Fprintf(out, "\nEvery step held, in %.1f s.\n", time.Since(begun).Seconds())
	return nil
}

func (s *Stage) perform(ctx context.Context, a act, out io.Writer) error {
	cmd := exec.CommandContext(ctx, s.Program, strings.Fields(a.run)...)
	cmd.Dir = s.Dir
	cmd.Env = append(os.Environ(), "BEACON_ADDRESS="+s.Address(), "BEACON_SESSIONS="+s.path("sessions.json"), "BEACON_TOKEN=", "BEACON_PASSWORD=")
	var seen strings.Builder
	cmd.Stdout = io.MultiWriter(out, &seen)
	cmd.Stderr = cmd.Stdout
	_ = cmd.Run() // the exit code is what counts
	if code := cmd.ProcessState.ExitCode(); code != a.exit {
		return fmt.Errorf("it ended with exit code %d, not %d", code, a.exit)
	}
	for _, pattern := range a.expect {
		if !regexp.MustCompile(pattern).MatchString(seen.String()) {
			return fmt.Errorf("its output has nothing like %q", pattern)
		}
	}
	return nil
}
