package reporter

import (
	"fmt"
	"strings"
)

// Unit is a unit of systemd that runs a reporter.
type Unit struct {
	Name    string
	Token   string   // file with the token
	Command []string // without the token
}

// String returns the unit file (systemd.exec(5)): the process is a user without rights, of its own, that sees nothing of the machine but its network.
func (u Unit) String() string {
	var words []string
	for _, w := range append(u.Command, "--token-file", "%d/token") {
		words = append(words, quoted(w))
	}
	return fmt.Sprintf(`[Unit]
Description=Report the addresses of this machine (%[1]s)
Wants=network-online.target
After=network-online.target

[Service]
ExecStart=%[2]s
LoadCredential=token:%[3]s
Restart=always
RestartSec=10
DynamicUser=yes
StateDirectory=%[1]s
UMask=0077
MemoryMax=64M
TasksMax=32
CapabilityBoundingSet=
NoNewPrivileges=yes
ProtectSystem=strict
ProtectHome=yes
ProtectClock=yes
ProtectHostname=yes
ProtectKernelLogs=yes
ProtectKernelModules=yes
ProtectKernelTunables=yes
ProtectControlGroups=yes
ProtectProc=invisible
ProcSubset=pid
PrivateDevices=yes
PrivateTmp=yes
RestrictAddressFamilies=AF_INET AF_INET6 AF_NETLINK AF_UNIX
RestrictNamespaces=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
LockPersonality=yes
MemoryDenyWriteExecute=yes
SystemCallArchitectures=native
SystemCallFilter=@system-service
SystemCallFilter=~@privileged @resources

[Install]
WantedBy=multi-user.target
`, u.Name, strings.Join(words, " "), strings.ReplaceAll(u.Token, "%", "%%"))
}

// quoted returns a word of a command line as units write it (systemd.service(5)). The placeholder of the credentials folder stays one.
func quoted(w string) string {
	if w != "%d/token" {
		w = strings.ReplaceAll(w, "%", "%%")
	}
	w = strings.ReplaceAll(w, "$", "$$")
	if w == "" || strings.ContainsAny(w, " \t\"'\\;") {
		w = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(w) + `"`
	}
	return w
}
