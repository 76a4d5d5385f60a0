package demo

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"path/filepath"
	"time"

	"knothole/outside/gate"
)

// StoreHost is the name of the stand-in secret store.
const StoreHost = "store.floodwatch.example"

// Store is a small secret store on this machine, which is in for a real one: it answers over TLS, with a
// certificate of its own authority, and wants a token.
type Store struct {
	// Policy is the path of the policy that says how the store is reached.
	Policy string
	// Answer may be set to answer otherwise, for tests; it is asked first and says whether it did.
	Answer func(w http.ResponseWriter, r *http.Request) bool

	server  *http.Server
	stopped chan error
}

// storeSecrets are what the store holds, by path: made up, as everything in the demo.
var storeSecrets = map[string]string{
	"/v1/live":  `{"data": {"map_key": "survey-4471-tides"}}`,
	"/v1/north": `{"data": {"siren_pin": "470915"}}`,
	"/v1/south": `{"data": {"siren_pin": "170338"}}`,
}

const storeToken = "demo-token-of-the-stand-in-store"

// StartStore starts a store. Its policy, the certificate of its authority and the token are in a directory, which is
// outside of the project.
func StartStore(folder string) (*Store, error) {
	certificate, authority, err := makeCertificate(time.Now())
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	policy := fmt.Sprintf(`# Which token goes to which host, and how it is reached: said by whoever runs knothole, not by the project.
[[hosts]]
host      = %q
address   = %q
authority = "authority.pem"
token     = { file = "token.txt" }
`, StoreHost, listener.Addr())
	root, err := gate.OpenRoot(folder)
	if err != nil {
		listener.Close()
		return nil, err
	}
	defer root.Close()
	for name, text := range map[string]string{"policy.toml": policy, "authority.pem": string(authority),
		"token.txt": storeToken + "\n"} {
		if err := root.WriteFile(name, []byte(text), 0o600); err != nil {
			listener.Close()
			return nil, err
		}
	}
	s := &Store{Policy: filepath.Join(folder, "policy.toml"), stopped: make(chan error, 1)}
	s.server = &http.Server{Handler: http.HandlerFunc(s.answer), ReadHeaderTimeout: time.Minute,
		ErrorLog: log.New(io.Discard, "", 0)}
	tlsListener := tls.NewListener(listener,
		&tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12})
	go func() { s.stopped <- s.server.Serve(tlsListener) }()
	return s, nil
}

// Close stops the store.
func (s *Store) Close() {
	_ = s.server.Close()
	<-s.stopped
}

func (s *Store) answer(w http.ResponseWriter, r *http.Request) {
	if s.Answer != nil && s.Answer(w, r) {
		return
	}
	if r.Header.Get("Authorization") != "Bearer "+storeToken {
		w.WriteHeader(http.StatusForbidden)
		return
	}
	text, ok := storeSecrets[r.URL.Path]
	if !ok {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	fmt.Fprintln(w, text)
}

// makeCertificate makes a certificate for the store, which is its own authority, valid for a day.
func makeCertificate(now time.Time) (certificate tls.Certificate, authority []byte, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return certificate, nil, err
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: StoreHost},
		DNSNames:  []string{StoreHost},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(24 * time.Hour), IsCA: true, BasicConstraintsValid: true,
		KeyUsage:    x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return certificate, nil, err
	}
	certificate = tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
	return certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), nil
}
