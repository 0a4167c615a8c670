package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func writeCertificate(t *testing.T, dir, name string, at time.Time) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{name}, NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, &c, &c, &key.PublicKey, key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	for file, b := range map[string]*pem.Block{
		"cert.pem": {Type: "CERTIFICATE", Bytes: der}, "key.pem": {Type: "PRIVATE KEY", Bytes: private},
	} {
		path := filepath.Join(dir, file)
		require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(b), 0o600))
		require.NoError(t, os.Chtimes(path, at, at))
	}
}

// A renewed certificate is used without a stop; one that is being written leaves the one before.
func TestACertificateIsReadAgain(t *testing.T) {
	dir := t.TempDir()
	c := &certificate{cert: filepath.Join(dir, "cert.pem"), key: filepath.Join(dir, "key.pem")}
	_, err := c.get(nil)
	require.Error(t, err, "there is none yet")
	now := time.Now()
	name := func() string {
		pair, err := c.get(nil)
		require.NoError(t, err)
		return pair.Leaf.DNSNames[0]
	}
	writeCertificate(t, dir, "one.example", now)
	assert.Equal(t, "one.example", name())
	writeCertificate(t, dir, "two.example", now.Add(time.Minute))
	assert.Equal(t, "two.example", name())
	require.NoError(t, os.WriteFile(c.cert, []byte("half"), 0o600))
	assert.Equal(t, "two.example", name())
	writeCertificate(t, dir, "three.example", now.Add(2*time.Minute))
	assert.Equal(t, "three.example", name())
}

func TestProxiesAreRead(t *testing.T) {
	got, err := readProxies([]string{"10.0.0.0/8", "::1", "192.0.2.1"})
	require.NoError(t, err)
	assert.Equal(t, "[10.0.0.0/8 ::1/128 192.0.2.1/32]", fmt.Sprint(got))
	_, err = readProxies([]string{"proxy.example"})
	require.Error(t, err)
}
