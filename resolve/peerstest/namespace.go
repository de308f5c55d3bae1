package peerstest

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
)

const inside = "BEACON_TEST_NAMESPACE"

// InNamespace runs a test in a network namespace of its own, where every address and port is free and nothing can leak: the test begins
// with
//
//	if !peerstest.InNamespace(t) {
//		return
//	}
//
// and is run again, inside, by a process of its own.
func InNamespace(t *testing.T) bool {
	t.Helper()
	if os.Getenv(inside) != "" {
		ip(t, "link", "set", "lo", "up")
		return true
	}
	args := []string{"-test.run", "^" + t.Name() + "$", "-test.v", "-test.count", "1"}
	cmd := exec.Command(os.Args[0], args...)
	cmd.Env = append(os.Environ(), inside+"=yes")
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET, Pdeathsig: syscall.SIGKILL}
	if os.Getuid() != 0 {
		cmd.SysProcAttr.Cloneflags |= syscall.CLONE_NEWUSER
		cmd.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}}
		cmd.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}}
	}
	out, err := cmd.CombinedOutput()
	text := string(out)
	if err != nil {
		t.Fatalf("in a namespace: %v\n%s", err, text)
	}
	if !strings.Contains(text, "--- PASS: "+t.Name()) {
		t.Fatalf("the test did not run in its namespace:\n%s", text)
	}
	for line := range strings.Lines(text) {
		if strings.Contains(line, "_test.go:") || strings.HasPrefix(line, "Benchmark") {
			t.Log(strings.TrimSpace(line))
		}
	}
	return false
}

// own gives this namespace an address of a server, which named insists on.
func (l *Lab) own(site string) {
	l.t.Helper()
	Own(l.t, l.IP(site))
}

// Own gives this namespace an address, which named insists on.
func Own(t testing.TB, address string) {
	t.Helper()
	ip(t, "addr", "replace", address+"/32", "dev", "lo")
}

func ip(t testing.TB, args ...string) {
	t.Helper()
	if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
		t.Fatal(fmt.Errorf("ip %s: %w\n%s", strings.Join(args, " "), err, out))
	}
}
