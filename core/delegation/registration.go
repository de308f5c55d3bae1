package delegation

import (
	"fmt"
	"strings"
	"time"

	"beacon/core/finding"
)

// expiresSoon is how long before its end a registration is spoken of.
const expiresSoon = 30 * 24 * time.Hour

// judgeRegistration looks at the state and the end of the registration, in the words of RFC 5731 and RFC 8056.
func (j *judge) judgeRegistration() {
	r := j.plan.Registrar
	if r == nil || r.Problem != "" {
		return
	}
	remedy := "Ask the registrar (" + r.Account + ")."
	for _, status := range r.Status {
		seen := fmt.Sprintf("%s: status %s", r.From, status)
		switch strings.ReplaceAll(strings.ToLower(status), " ", "") {
		case "clienthold", "serverhold":
			j.find("registration-on-hold", finding.Error, j.short, fmt.Sprintf("The registration is on hold (%s): the registry removes the domain from the parent zone, so resolvers do not find it.", status),
				remedy+" Holds are set for unpaid bills, unconfirmed addresses and complaints.", seen)
		case "redemptionperiod", "pendingdelete", "pendingrestore":
			j.find("registration-in-redemption", finding.Error, j.short, fmt.Sprintf("The registration was deleted (%s), and will be free for anyone soon.", status),
				remedy+" It can be restored for some weeks only, usually for a fee.", seen)
		case "autorenewperiod":
			j.find("registration-renewed", finding.Notice, j.short, "The registration was renewed by the registry of itself; the registrar may still give it back.", remedy, seen)
		case "pendingtransfer":
			j.find("registration-in-transfer", finding.Warning, j.short, "The registration is being moved to another registrar. If no user here asked for that, another party did.", remedy, seen)
		}
	}
	if r.Expires == nil {
		return
	}
	left := r.Expires.Sub(j.now)
	seen := fmt.Sprintf("%s: expires %s", r.From, r.Expires.UTC().Format(time.DateOnly))
	switch {
	case left <= 0:
		j.find("registration-expired", finding.Error, j.short, fmt.Sprintf("The registration ended on %s.", r.Expires.UTC().Format("2 January 2006")), "Renew it immediately: "+remedy, seen)
	case left < expiresSoon:
		j.find("registration-ends-soon", finding.Warning, j.short, fmt.Sprintf("The registration ends in %d days, on %s.", int(left.Hours()/24), r.Expires.UTC().Format("2 January 2006")), "Renew it, or see that it renews itself. "+remedy, seen)
		j.dated(*r.Expires)
	}
}
