package e2e

import (
	"encoding/binary"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// trouble is how a database misbehaves behind a proxy.
type trouble string

const (
	well      trouble = ""
	frozen    trouble = "frozen"             // nothing comes back
	killed    trouble = "killed"             // connections break, and none is taken
	readOnly  trouble = "read-only"          // writes are refused
	diskFull  trouble = "out of disk"        // the same, for another reason
	crowded   trouble = "out of connections" // connections break, and new ones are refused
	slow      trouble = "slow"               // a fifth of a second for each query
	slowQuery         = 200 * time.Millisecond
)

// alone is how a statement begins that is a transaction by itself.
const alone = "UPDATE locations l JOIN uplinks"

// dbProxy stands before a database and makes it misbehave.
type dbProxy struct {
	to     string
	path   string
	mu     sync.Mutex
	state  trouble
	conns  map[net.Conn]bool
	clear  chan struct{} // closed when the state changes
	commit func(passed bool)
}

// onCommit has f called before and after each COMMIT, and each statement that commits by itself, is passed on.
func (p *dbProxy) onCommit(f func(passed bool)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.commit = f
}

func (p *dbProxy) atCommit() func(passed bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.commit
}

func startProxy(t *testing.T, to, path string) *dbProxy {
	t.Helper()
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	p := &dbProxy{to: to, path: path, conns: map[net.Conn]bool{}, clear: make(chan struct{})}
	t.Cleanup(func() { l.Close(); p.become(killed) })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go p.serve(c)
		}
	}()
	return p
}

// become changes how the database behaves. What it breaks breaks now.
func (p *dbProxy) become(s trouble) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.state = s
	close(p.clear)
	p.clear = make(chan struct{})
	if s == killed || s == crowded {
		for c := range p.conns {
			c.Close()
		}
	}
}

func (p *dbProxy) now() (trouble, chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.state, p.clear
}

// packet reads one packet of the protocol.
func packet(c net.Conn) ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(c, head); err != nil {
		return nil, err
	}
	n := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
	all := append(head, make([]byte, n)...)
	_, err := io.ReadFull(c, all[4:])
	return all, err
}

// refusal is a packet that says that a command failed.
func refusal(sequence byte, code uint16, text string) []byte {
	body := append(binary.LittleEndian.AppendUint16([]byte{0xff}, code), []byte("#HY000"+text)...)
	return append([]byte{byte(len(body)), byte(len(body) >> 8), 0, sequence}, body...)
}

func (p *dbProxy) serve(client net.Conn) {
	defer client.Close()
	switch s, _ := p.now(); s {
	case killed:
		return
	case crowded:
		_, _ = client.Write(refusal(0, 1040, "Too many connections"))
		return
	}
	server, err := net.Dial("unix", p.to)
	if err != nil {
		return
	}
	defer server.Close()
	p.mu.Lock()
	p.conns[client], p.conns[server] = true, true
	p.mu.Unlock()
	defer func() {
		p.mu.Lock()
		delete(p.conns, client)
		delete(p.conns, server)
		p.mu.Unlock()
	}()
	go func() { // answers
		defer client.Close()
		buffer := make([]byte, 64<<10)
		for {
			n, err := server.Read(buffer)
			if n > 0 {
				p.thaw()
				if _, err := client.Write(buffer[:n]); err != nil {
					return
				}
			}
			if err != nil {
				return
			}
		}
	}()
	for first := true; ; first = false {
		all, err := packet(client)
		if err != nil {
			return
		}
		p.thaw()
		if s, _ := p.now(); !first && len(all) > 4 && all[4] == 3 {
			query := strings.ToUpper(string(all[5:min(len(all), 20)]))
			write := strings.HasPrefix(query, "INSERT") || strings.HasPrefix(query, "UPDATE") || strings.HasPrefix(query, "DELETE")
			switch {
			case s == slow:
				time.Sleep(slowQuery)
			case s == readOnly && write:
				_, _ = client.Write(refusal(all[3]+1, 1290, "The MariaDB server is running with the --read-only option"))
				continue
			case s == diskFull && write:
				_, _ = client.Write(refusal(all[3]+1, 1021, "Disk full"))
				continue
			}
		}
		commit := p.atCommit()
		commits := commit != nil && len(all) > 4 && all[4] == 3 && (string(all[5:]) == "COMMIT" || strings.HasPrefix(string(all[5:]), alone))
		if commits {
			commit(false)
		}
		if _, err := server.Write(all); err != nil {
			return
		}
		if commits {
			commit(true)
		}
	}
}

// thaw waits while the database is frozen.
func (p *dbProxy) thaw() {
	for s, changed := p.now(); s == frozen; s, changed = p.now() {
		<-changed
	}
}
