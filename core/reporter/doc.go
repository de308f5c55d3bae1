// Package reporter decides what a machine reports of itself: which of its addresses others could reach (select.go), and when it reports (schedule.go). It also reads and
// writes the messages in which a router says its own address: NAT-PMP (natpmp.go, RFC 6886) and PCP (pcp.go, RFC 6887). It opens no socket and knows no clock.
package reporter
