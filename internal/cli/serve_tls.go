package cli

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"sync"
	"time"

	"crelvo/internal/core/fault"
)

// lookEvery is how often it is looked, when somebody connects, whether a certificate's files
// are others.
const lookEvery = time.Second

// certificate is one in two files, which may be replaced while the service runs.
type certificate struct {
	file, key string
	log       *slog.Logger

	mu      sync.Mutex
	current *tls.Certificate
	looked  time.Time
	// stamps are the times and sizes of the files as they were read last, or could not be.
	stamps string
}

// openCertificate reads it; it must be good at the start.
func openCertificate(file, key string, log *slog.Logger) (*certificate, error) {
	c := &certificate{file: file, key: key, log: log}
	pair, err := tls.LoadX509KeyPair(file, key)
	if err != nil {
		return nil, fault.New(fault.Invalid, "bad-certificate", "the certificate %s with the key %s cannot be used: %v", file,
			key, err).WithHint("Both are PEM files; in the first stands the server's certificate before those that signed it.")
	}
	c.current, c.stamps, c.looked = &pair, c.stamp(), time.Now()
	return c, nil
}

// stamp tells whether the files are others.
func (c *certificate) stamp() (all string) {
	for _, name := range []string{c.file, c.key} {
		stat, err := os.Stat(name)
		if err != nil {
			return all + err.Error()
		}
		all += fmt.Sprint(stat.ModTime().UnixNano(), " ", stat.Size(), " ")
	}
	return all
}

// get is the certificate for a connection. One that cannot be read, as while its files are
// replaced, leaves the one before in use.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) >= lookEvery {
		c.looked = now
		if stamps := c.stamp(); stamps != c.stamps {
			pair, err := tls.LoadX509KeyPair(c.file, c.key)
			if err != nil {
				c.log.Warn("the new certificate cannot be used; the one before stays", "file", c.file, "error", err)
			} else {
				c.current = &pair
				c.log.Info("a new certificate is in use", "file", c.file, "until", pair.Leaf.NotAfter)
			}
			c.stamps = stamps
		}
	}
	return c.current, nil
}

// overTLS is a listener whose connections are encrypted, where the settings name a
// certificate.
func overTLS(l net.Listener, settings serveSettings, log *slog.Logger) (net.Listener, error) {
	switch {
	case settings.Certificate == "" && settings.CertificateKey == "":
		return l, nil
	case settings.Certificate == "" || settings.CertificateKey == "":
		return nil, usageError{errors.New("--tls-certificate and --tls-key belong together: give both")}
	}
	c, err := openCertificate(settings.Certificate, settings.CertificateKey, log)
	if err != nil {
		return nil, err
	}
	return tls.NewListener(l, &tls.Config{GetCertificate: c.get, MinVersion: tls.VersionTLS12,
		NextProtos: []string{"h2", "http/1.1"}}), nil
}
