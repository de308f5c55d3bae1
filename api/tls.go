package api

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"

	"beacon/service"
)

// certificate is the one that the service shows, read again when its files change. It is safe for concurrent use.
type certificate struct {
	files service.TLSSettings
	log   *slog.Logger

	mu     sync.Mutex
	now    *tls.Certificate
	read   [2]time.Time // when the files were changed last
	looked time.Time
}

// lookAgain is how often the files are looked at, at most, real time.
const lookAgain = time.Second

// TLS returns how connections are secured with the certificate of some files, which has to be readable now.
func TLS(files service.TLSSettings, log *slog.Logger) (*tls.Config, error) {
	if info, err := os.Stat(files.Key); err == nil && info.Mode().Perm()&0o007 != 0 {
		return nil, fmt.Errorf("the key %s may be read by every user of this machine (mode %04o): chmod o-rwx %s", files.Key, info.Mode().Perm(), files.Key)
	}
	c := &certificate{files: files, log: log}
	if err := c.load(); err != nil {
		return nil, err
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.get}, nil
}

func (c *certificate) times() (times [2]time.Time) {
	for i, path := range []string{c.files.Certificate, c.files.Key} {
		if info, err := os.Stat(path); err == nil {
			times[i] = info.ModTime()
		}
	}
	return times
}

func (c *certificate) load() error {
	times := c.times()
	pair, err := tls.LoadX509KeyPair(c.files.Certificate, c.files.Key)
	if err == nil {
		c.now, c.read = &pair, times
	}
	return err
}

func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) >= lookAgain {
		c.looked = time.Now()
		if c.times() != c.read {
			if err := c.load(); err != nil { // it is being replaced, or wrong: the one until now serves
				c.log.Warn("the new certificate cannot be read; the one until now is used", "error", err)
			} else {
				c.log.Info("another certificate is used", "file", c.files.Certificate)
			}
		}
	}
	return c.now, nil
}
