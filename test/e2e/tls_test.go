package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// writeCertificate writes a certificate that signs itself, with a serial number.
func writeCertificate(t *testing.T, dir string, serial int64) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	of := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "packages.skerry.example"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true,
		KeyUsage:    x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	raw, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for name, block := range map[string]*pem.Block{"key.pem": {Type: "PRIVATE KEY", Bytes: secret},
		"certificate.pem": {Type: "CERTIFICATE", Bytes: raw}} {
		if err := os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// TestTLS: the service answers over TLS by itself, to clients as they are, with HTTP/2 to
// those that know it; a certificate that is replaced is used without a restart, and one that
// cannot be read leaves the one before in use.
func TestTLS(t *testing.T) {
	t.Parallel()
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	writeCertificate(t, dir, 1)
	certificate, key := dir+"/certificate.pem", dir+"/key.pem"
	h, err := house.Start(dir+"/data", "--tls-certificate", certificate, "--tls-key", key,
		"--trusted-proxies", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := h.Stop(); err != nil {
			t.Error(err)
		}
	})
	if !strings.HasPrefix(h.Address, "https://127.0.0.1:") {
		t.Fatalf("it answers at %s", h.Address)
	}
	at := strings.TrimPrefix(h.Address, "https://")
	serial := func() int64 {
		t.Helper()
		c, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true})
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		return c.ConnectionState().PeerCertificates[0].SerialNumber.Int64()
	}
	if serial() != 1 {
		t.Error("it has another certificate")
	}
	w := newWorkshop(t, "SSL_CERT_FILE="+certificate, "CURL_CA_BUNDLE="+certificate)
	curl := func(args ...string) string {
		t.Helper()
		return w.run("", "curl", append([]string{"--silent", "--show-error", "--fail", "--user", "admin:" + house.Token},
			args...)...)
	}
	w.write("new.json", []byte(`{"name":"both","holds":"both"}`))
	says(t, curl("--json", "@new.json", "--write-out", " over HTTP/%{http_version}", h.Address+"/api/v1/repositories"),
		"over HTTP/2")
	w.run("", tool("crane"), "auth", "login", at, "-u", "admin", "-p", house.Token)
	w.write("layer.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/berth", Content: strings.Repeat("plans ", 200_000)}))
	w.run("", tool("crane"), "append", "-f", "layer.tar.gz", "-t", at+"/both/berth:1.5.0-dev.1")
	w.run("", tool("crane"), "validate", "--remote", at+"/both/berth:1.5.0-dev.1")
	// What documents lead to is over TLS too, and is sent whole.
	p := madeup.Package{Name: "deck-tls", Version: "1.0.0"}
	w.write("document.json", p.NPMDocument("latest", p.NPM()))
	curl("--upload-file", "document.json", h.Address+"/at/both/npm/deck-tls")
	says(t, curl(h.Address+"/at/both/npm/deck-tls"), `"tarball":"`+h.Address+`/at/both/npm/deck-tls/-/`)
	// A trusted proxy says how its clients reach the service; of several, each is led back to
	// where it came from.
	for _, name := range []string{"a.skerry.example", "b.skerry.example", "a.skerry.example"} {
		says(t, curl("--header", "X-Forwarded-Host: "+name, "--header", "X-Forwarded-Proto: https",
			h.Address+"/at/both/npm/deck-tls"), `"tarball":"https://`+name+`/at/both/npm/deck-tls/-/`)
	}
	w.write("project/package.json", []byte(`{"name":"x","version":"1.0.0"}`))
	w.write("project/.npmrc", []byte("registry="+h.Address+"/at/both/npm/\n//"+at+"/at/both/npm/:_authToken="+house.Token+"\n"))
	w.run("project", "npm", "install", "deck-tls", "--no-audit", "--no-fund", "--cache", w.dir+"/npm",
		"--cafile", certificate)

	// Half a new one is none; then it is there.
	if err := os.WriteFile(certificate, []byte("-----BEGIN CERT"), 0o600); err != nil {
		t.Fatal(err)
	}
	eventually(t, 10*time.Second, "the broken file is looked at", func() bool {
		return serial() == 1 && strings.Contains(h.Log(), "cannot be used; the one before stays")
	})
	writeCertificate(t, dir, 2)
	eventually(t, 10*time.Second, "the new certificate is in use", func() bool { return serial() == 2 })

	// In clear text it says what is wrong, and settings that cannot be used are refused.
	if r, err := http.Get("http://" + at + "/livez"); err != nil || r.StatusCode != http.StatusBadRequest {
		t.Errorf("in clear text: %v, %v", r, err)
	}
	for _, flags := range [][]string{{"--tls-certificate", certificate},
		{"--tls-certificate", dir + "/none.pem", "--tls-key", key}, {"--tls-certificate", key, "--tls-key", key}} {
		out, said, code := command(t, nil, "", append([]string{"serve", "--data", t.TempDir(), "--listen", "127.0.0.1:0"},
			flags...)...)
		if code == 0 || !strings.Contains(said, "certificate") {
			t.Errorf("%q: %d %s%s", flags, code, out, said)
		}
	}
}
