package api

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/service"
)

// writeCertificate writes a certificate of beacon.example with a serial number, and its key, into a folder.
func writeCertificate(t *testing.T, dir string, serial int64) service.TLSSettings {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "beacon.example"}, DNSNames: []string{"beacon.example"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	files := service.TLSSettings{Certificate: filepath.Join(dir, "beacon.pem"), Key: filepath.Join(dir, "beacon-key.pem")}
	require.NoError(t, os.WriteFile(files.Certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(files.Key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600))
	moment := time.Now().Add(time.Duration(serial) * time.Second) // files that change within a tick of their clock are told apart
	require.NoError(t, os.Chtimes(files.Certificate, moment, moment))
	return files
}

// The certificate is read again when its files change; a broken one does not take the place of one that works.
func TestCertificateIsReadAgain(t *testing.T) {
	dir := t.TempDir()
	files := writeCertificate(t, dir, 1)
	config, err := TLS(files, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	serial := func() int64 {
		c, err := config.GetCertificate(nil)
		require.NoError(t, err)
		return c.Leaf.SerialNumber.Int64()
	}
	assert.EqualValues(t, 1, serial())
	require.NoError(t, os.WriteFile(files.Certificate, []byte("not yet whole"), 0o600))
	time.Sleep(lookAgain)
	assert.EqualValues(t, 1, serial())
	writeCertificate(t, dir, 2)
	assert.Eventually(t, func() bool { return serial() == 2 }, 2*time.Minute, 50*time.Millisecond)
	require.NoError(t, os.Chmod(files.Key, 0o644))
	_, err = TLS(files, slog.New(slog.DiscardHandler))
	assert.ErrorContains(t, err, "chmod")
	require.NoError(t, os.Chmod(files.Key, 0o640))
	_, err = TLS(service.TLSSettings{Certificate: filepath.Join(dir, "none.pem"), Key: files.Key}, slog.New(slog.DiscardHandler))
	assert.Error(t, err)
}

// With TLS the service is asked under its names only, its cookies are for TLS only, and old versions of TLS are refused.
func TestOverTLS(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.settings.TLS, s.settings.HostNames = writeCertificate(t, t.TempDir(), 1), []string{"Beacon.example."}
	svc := s.open()
	t.Cleanup(svc.Close)
	quiet := slog.New(slog.DiscardHandler)
	server := NewServer(svc, quiet)
	config, err := TLS(s.settings.TLS, quiet)
	require.NoError(t, err)
	server.TLSConfig = config
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = server.ServeTLS(Bounded(listener, nil, false), "", "") }()
	t.Cleanup(func() { _ = server.Close() })
	pool := x509.NewCertPool()
	text, err := os.ReadFile(s.settings.TLS.Certificate)
	require.NoError(t, err)
	require.True(t, pool.AppendCertsFromPEM(text))
	client := func(most uint16) *http.Client {
		return &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MaxVersion: most}, ForceAttemptHTTP2: true,
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, "tcp", listener.Addr().String())
			}}}
	}
	res, err := client(0).Post("https://beacon.example"+Base+"/sessions", "application/json", strings.NewReader(`{"name":"admin","password":"correct horse","browser":true}`))
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, http.StatusCreated, res.StatusCode)
	require.Len(t, res.Cookies(), 1)
	assert.True(t, res.Cookies()[0].Secure)
	assert.NotEmpty(t, res.Header.Get("Strict-Transport-Security"))
	assert.Equal(t, 2, res.ProtoMajor)
	_, err = client(tls.VersionTLS11).Get("https://beacon.example/healthz")
	assert.Error(t, err)
}

// A request under a host name that is not the service's is refused: a page of another site can let its own name resolve to this address.
func TestHostNames(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	for _, c := range []struct {
		names   []string
		proxies []string
		right   []string
		wrong   []string
	}{
		{nil, nil, []string{"127.0.0.1:8053", "localhost:8053", "[::1]:8053", "192.0.2.7"}, []string{"evil.example", "evil.example:8053", "localhost.evil.example", ""}},
		{[]string{"beacon.example"}, nil, []string{"beacon.example", "BEACON.example.:443", "localhost"}, []string{"evil.example", "192.0.2.7", "x.beacon.example"}},
		{nil, []string{"192.0.2.7/32"}, []string{"beacon.example", "192.0.2.7"}, nil},
	} {
		s.settings.HostNames, s.settings.Proxies = c.names, c.proxies
		svc := s.open()
		handler := New(svc, slog.New(slog.DiscardHandler))
		ask := func(host, path string) int {
			req := httptest.NewRequest("GET", path, nil)
			req.Host = host
			rec := httptest.NewRecorder()
			handler.ServeHTTP(rec, req)
			return rec.Code
		}
		for _, host := range c.right {
			assert.Equal(t, http.StatusOK, ask(host, Base+"/sessions/current"), "%v: %s", c.names, host)
		}
		for _, host := range c.wrong {
			assert.Equal(t, http.StatusMisdirectedRequest, ask(host, Base+"/sessions/current"), "%v: %s", c.names, host)
			assert.Equal(t, http.StatusMisdirectedRequest, ask(host, "/"), "%v: %s", c.names, host)
			assert.Equal(t, http.StatusOK, ask(host, "/healthz"), "%v: %s", c.names, host)
		}
		svc.Close()
	}
}

// Behind a proxy with TLS the cookie is for TLS only.
func TestCookiesBehindAProxy(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.settings.Proxies = []string{"192.0.2.1/32"} // where httptest's requests come from
	svc := s.open()
	defer svc.Close()
	s.handler = New(svc, slog.New(slog.DiscardHandler))
	_, h, _ := s.ask("POST", Base+"/sessions", `{"name":"admin","password":"correct horse","browser":true}`)
	assert.Contains(t, h.Get("Set-Cookie"), "Secure")
}
