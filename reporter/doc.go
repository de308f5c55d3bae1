// Package reporter reports the addresses of the machine that it runs on to the service, for a name that follows them.
//
// source.go says where the address of each family comes from: an interface (netlink_linux.go), the router (router.go), what the service or another one saw (send.go), or a
// fixed one. run.go waits for changes and reports; state.go keeps what was reported last, for those who ask whether it still runs; unit.go writes a unit for systemd. What is chosen,
// and when, is decided in core/reporter.
package reporter
