package server

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// Certificate is one of TLS in two files, which are read again when they were replaced.
type Certificate struct {
	file, key string
	log       *slog.Logger

	mu     sync.Mutex // guards what follows
	loaded *tls.Certificate
	of     [2]time.Time // when the files were written
}

// LoadCertificate reads a certificate, with those that lead to its root, and its key, both in PEM.
func LoadCertificate(file, key string, log *slog.Logger) (*Certificate, error) {
	c := &Certificate{file: file, key: key, log: log}
	return c, c.load()
}

func (c *Certificate) load() error {
	var of [2]time.Time
	for i, name := range []string{c.file, c.key} {
		info, err := os.Stat(name)
		if err != nil {
			return fmt.Errorf("the certificate of TLS: %w", err)
		}
		of[i] = info.ModTime()
	}
	if c.loaded != nil && of == c.of {
		return nil
	}
	c.of = of
	loaded, err := tls.LoadX509KeyPair(c.file, c.key)
	if err != nil {
		return fmt.Errorf("the certificate of TLS in %s and its key in %s do not fit: %w", c.file, c.key, err)
	}
	c.loaded = &loaded
	return nil
}

func (c *Certificate) config() *tls.Config {
	return &tls.Config{
		MinVersion: tls.VersionTLS12,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			c.mu.Lock()
			defer c.mu.Unlock()
			if err := c.load(); err != nil {
				c.log.Error("renewed certificate not used", "error", err)
			}
			return c.loaded, nil
		},
	}
}
