package store_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"database/sql"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/clock"
	"beacon/reach"
	"beacon/store"
	"beacon/store/mariadbd"
)

// certificate writes a certificate of 127.0.0.1 and its key.
func certificate(t *testing.T, dir, name string) (cert, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	require.NoError(t, err)
	text, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	cert, key = filepath.Join(dir, name+".pem"), filepath.Join(dir, name+"-key.pem")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: text}), 0o644))
	return cert, key
}

// A database over the network is reached over TLS, with a certificate that can be believed. On this machine that is not needed.
func TestDatabaseOverTLS(t *testing.T) {
	dir := t.TempDir()
	cert, key := certificate(t, dir, "database")
	other, _ := certificate(t, dir, "other")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	require.NoError(t, l.Close())
	server, err := mariadbd.Start(context.Background(), mariadbd.Options{Dir: filepath.Join(dir, "db"), Fast: true,
		Args: []string{"--skip-networking=0", "--bind-address=127.0.0.1", fmt.Sprintf("--port=%d", port), "--ssl-cert=" + cert, "--ssl-key=" + key, "--require-secure-transport=ON"}})
	require.NoError(t, err)
	defer server.Stop()
	require.NoError(t, server.Provide(context.Background(), "beacon", "beacon", "practice"))
	root, err := sql.Open("mysql", "root@unix("+server.Socket+")/")
	require.NoError(t, err)
	defer root.Close()
	for _, statement := range []string{"CREATE USER 'beacon'@'127.0.0.1' IDENTIFIED BY 'practice'", "GRANT ALL ON beacon.* TO 'beacon'@'127.0.0.1'"} {
		_, err := root.Exec(statement)
		require.NoError(t, err)
	}
	settings := store.Settings{Address: fmt.Sprintf("127.0.0.1:%d", port), User: "beacon", Password: "practice", Database: "beacon"}
	open := func(caFile string) error {
		settings.TLS.CAFile = caFile
		s, err := store.Open(context.Background(), settings, reach.Loopback(), clock.Wall{}.Now)
		if err == nil {
			s.Close()
		}
		return err
	}
	assert.Error(t, open(""), "the server takes no plain connection, and this machine's own is one")
	assert.NoError(t, open(cert))
	assert.ErrorContains(t, open(other), "certificate")
	assert.ErrorContains(t, open(filepath.Join(dir, "none.pem")), "database.tls.ca_file")
}

// Another machine is never talked to in plain text, unless the settings say so.
func TestDatabaseElsewhere(t *testing.T) {
	for address, plain := range map[string]bool{"127.0.0.1:3306": true, "localhost:3306": true, "[::1]:3306": true, "192.0.2.7:3306": false, "db.example:3306": false} {
		s := store.Settings{Address: address}
		secured, err := store.Secured(s)
		require.NoError(t, err)
		assert.Equal(t, plain, !secured, address)
		s.PlainText = true
		secured, err = store.Secured(s)
		require.NoError(t, err)
		assert.False(t, secured, address)
	}
}
