// Package secrets reads secrets from where a project says they are: variables, files, age-encrypted files and stores
// that are asked over TLS. It exists to hold the rules for that outside of the project, so that no change to a
// project can take what it should not, or send a token elsewhere. No error of it holds a word of what was read.
package secrets

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"syscall"
	"time"
	"unicode/utf8"

	"filippo.io/age"
	"filippo.io/age/armor"

	"knothole/core/place"
	"knothole/core/project"
	"knothole/outside/gate"
)

// Limits of what is read: how large a secret may be, in bytes, and how long a store may take.
const (
	maxBytes = 1 << 20
	maxTime  = 10 * time.Second
)

// variablePrefix begins the names of the variables that may be read without a policy.
const variablePrefix = "KNOTHOLE_SECRET_"

// IdentityVariable is the variable with the identity for age-encrypted files: the path of a file, or the identity
// itself.
const IdentityVariable = "KNOTHOLE_IDENTITY"

// Source reads the secrets of one project.
type Source struct {
	// Root is the directory of the project.
	Root *gate.Root
	// Identity is the path of the file with the identities for age-encrypted files, or an identity itself; empty for
	// none.
	Identity string
	// IdentityName is what messages call it. It is never the text of a variable: that may be a private key that was
	// taken for a path.
	IdentityName string
	// Policy says what else may be read; nil for nothing.
	Policy *Policy
	// Timeout is how long a store may take; 0 for the usual limit.
	Timeout time.Duration

	read map[string]result
}

type result struct {
	text []byte
	err  error
}

// Read reads what a reference names; what several references name is read once.
func (s *Source) Read(r *project.Reference) ([]byte, error) {
	key := r.Kind + " " + r.Target
	if known, ok := s.read[key]; ok {
		return known.text, known.err
	}
	var got result
	switch r.Kind {
	case "variable":
		got.text, got.err = s.variable(r.Target)
	case "file":
		got.text, got.err = s.file(r.Target)
	case "age":
		got.text, got.err = s.age(r.Target)
	case "url":
		got.text, got.err = s.url(r.Target)
	}
	if s.read == nil {
		s.read = map[string]result{}
	}
	s.read[key] = got
	return got.text, got.err
}

func (s *Source) variable(name string) ([]byte, error) {
	if !strings.HasPrefix(name, variablePrefix) && !s.Policy.allows(name) {
		return nil, fmt.Errorf("the variable %s may not be read: only those that begin with %s, and those that a "+
			"file given with --secret-policy names", name, variablePrefix)
	}
	text, set := os.LookupEnv(name)
	switch {
	case !set:
		return nil, fmt.Errorf("the variable %s is not set", name)
	case text == "":
		return nil, fmt.Errorf("the variable %s is empty", name)
	}
	return []byte(text), nil
}

// file reads a file of the project; links that leave it are refused.
func (s *Source) file(name string) ([]byte, error) {
	text, err := s.Root.ReadSome(name, maxBytes)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no file %s in the project", name)
	}
	if errors.Is(err, gate.ErrTooLarge) {
		return nil, fmt.Errorf("%s is larger than %d KiB, which no secret is", name, maxBytes>>10)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %s", name, gate.Plain(err))
	}
	return content(text, name)
}

// content is what a file says: without a byte order mark, which editors put before it, and not nothing.
func content(text []byte, name string) ([]byte, error) {
	text = bytes.TrimPrefix(text, []byte("\uFEFF"))
	if len(bytes.TrimRight(text, "\r\n")) == 0 {
		return nil, fmt.Errorf("%s is empty", name)
	}
	return text, nil
}

// age reads an age-encrypted file of the project (age v1), armoured or not.
func (s *Source) age(name string) ([]byte, error) {
	sealed, err := s.file(name)
	if err != nil {
		return nil, err
	}
	identities, err := s.identities()
	if err != nil {
		return nil, err
	}
	var in io.Reader = bytes.NewReader(sealed)
	if bytes.HasPrefix(sealed, []byte(armor.Header)) {
		in = armor.NewReader(bufio.NewReader(in))
	} else if !bytes.HasPrefix(sealed, []byte("age-encryption.org/")) {
		return nil, fmt.Errorf("%s is not encrypted with age", name)
	}
	out, err := age.Decrypt(in, identities...)
	var other *age.NoIdentityMatchError
	if errors.As(err, &other) {
		return nil, fmt.Errorf("%s is not encrypted for the identity of %s", name, s.IdentityName)
	}
	if err != nil {
		return nil, fmt.Errorf("%s is damaged: its head cannot be read", name)
	}
	text, err := io.ReadAll(io.LimitReader(out, maxBytes+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("%s is damaged: its contents do not fit its head", name)
	case len(text) > maxBytes:
		return nil, fmt.Errorf("%s is larger than %d KiB, which no secret is", name, maxBytes>>10)
	}
	return content(text, name)
}

// IsIdentity reports whether a text is an identity of age itself, not the path of a file with one.
func IsIdentity(text string) bool { return strings.Contains(text, "AGE-SECRET-KEY-") }

func (s *Source) identities() ([]age.Identity, error) {
	if s.Identity == "" {
		return nil, fmt.Errorf("no identity is known to decrypt it with: name its file with --identity FILE, or in "+
			"%s", IdentityVariable)
	}
	var in io.Reader = strings.NewReader(s.Identity)
	if !IsIdentity(s.Identity) {
		text, err := gate.ReadSome(s.Identity, maxBytes)
		if err != nil {
			return nil, fmt.Errorf("the identity of %s cannot be read: %s", s.IdentityName, gate.Plain(err))
		}
		in = bytes.NewReader(text)
	}
	identities, err := age.ParseIdentities(in)
	if err != nil {
		return nil, fmt.Errorf("what %s gives is not an identity of age", s.IdentityName)
	}
	return identities, nil
}

// url asks a store. The answer is the whole of what it says; a token goes only to a host for which the policy has one.
func (s *Source) url(target string) ([]byte, error) {
	u, err := url.Parse(target)
	if err != nil || u.Scheme != "https" || u.Host == "" {
		return nil, errors.New("it is no URL that begins with https://")
	}
	if u.User != nil {
		return nil, errors.New("a name or password in the URL is not sent; a token belongs into the policy")
	}
	h, named := s.Policy.host(u.Host)
	if !named {
		return nil, fmt.Errorf("%s is not asked: only hosts that a file given with --secret-policy names are", u.Host)
	}
	token := ""
	if h.token != nil {
		if token, err = h.token(); err != nil {
			return nil, fmt.Errorf("the token for %s is missing: %w", u.Host, err)
		}
	}
	timeout := s.Timeout
	if timeout == 0 {
		timeout = maxTime
	}
	transport := &http.Transport{
		Proxy: http.ProxyFromEnvironment, ForceAttemptHTTP2: true, DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: h.authorities},
	}
	if h.address != "" {
		transport.Proxy = nil
		transport.DialContext = func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, h.address)
		}
	}
	client := &http.Client{Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	// The time limit holds for the answer as a whole, however slowly it comes.
	ctx, cancel := context.WithTimeout(context.Background(), timeout)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, target, nil)
	if err != nil {
		return nil, errors.New("it is no URL that begins with https://")
	}
	request.Header.Set("Accept", "application/json")
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	answer, err := client.Do(request)
	if err != nil {
		return nil, unreachable(u.Host, timeout, err)
	}
	defer answer.Body.Close()
	switch {
	case answer.StatusCode >= 300 && answer.StatusCode < 400:
		return nil, fmt.Errorf("%s redirects elsewhere, which is not followed", u.Host)
	case answer.StatusCode == http.StatusUnauthorized || answer.StatusCode == http.StatusForbidden:
		help := "the token that the policy has for it is not accepted"
		if token == "" {
			help = "the file that --secret-policy names says which token to send"
		}
		return nil, fmt.Errorf("%s refuses to answer (%d): %s", u.Host, answer.StatusCode, help)
	case answer.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("%s answers %d %s", u.Host, answer.StatusCode, http.StatusText(answer.StatusCode))
	}
	text, err := io.ReadAll(io.LimitReader(answer.Body, maxBytes+1))
	if err == nil {
		// Giving up says so to the store, and a store that then ends its answer in good order makes
		// what came so far look whole.
		err = ctx.Err()
	}
	switch {
	case err != nil:
		return nil, unreachable(u.Host, timeout, err)
	case len(text) > maxBytes:
		return nil, fmt.Errorf("%s answers with more than %d KiB, which no secret is", u.Host, maxBytes>>10)
	}
	return text, nil
}

// unreachable says in few words why a store gave no answer.
func unreachable(host string, timeout time.Duration, err error) error {
	var certificate *tls.CertificateVerificationError
	var name *net.DNSError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &certificate):
		why := "it is not signed by an authority that is trusted; a file given with --secret-policy may name one"
		var hostname x509.HostnameError
		var invalid x509.CertificateInvalidError
		if errors.As(err, &hostname) {
			why = "it is for another host"
		} else if errors.As(err, &invalid) && invalid.Reason == x509.Expired {
			why = "it is not valid today"
		}
		return fmt.Errorf("the certificate of %s is not accepted: %s", host, why)
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("%s did not answer in full within %s", host, timeout)
	case errors.As(err, &name):
		return fmt.Errorf("there is no host %s", host)
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Errorf("%s refuses the connection", host)
	case errors.As(err, &record), errors.Is(err, http.ErrSchemeMismatch):
		return fmt.Errorf("%s does not speak TLS", host)
	}
	return fmt.Errorf("%s cannot be reached, or broke off its answer", host)
}

// Policy says what may be read besides what every project may, and which token goes to which host. It stands outside
// of the project.
type Policy struct {
	variables []string // patterns
	hosts     []host
}

type host struct {
	name        string
	address     string                 // where it is reached, when not under its name
	token       func() (string, error) // nil for none
	authorities *x509.CertPool         // nil for those of the machine
}

func (p *Policy) allows(variable string) bool {
	if p == nil {
		return false
	}
	for _, pattern := range p.variables {
		if place.Match(pattern, variable) {
			return true
		}
	}
	return false
}

// host returns what is said of a host, and whether anything is. Letters of other scripts are never those of ASCII, as
// the long s is an s where case is folded.
func (p *Policy) host(name string) (host, bool) {
	if p == nil || strings.ContainsFunc(name, func(r rune) bool { return r >= utf8.RuneSelf }) {
		return host{}, false
	}
	for _, h := range p.hosts {
		if strings.EqualFold(h.name, name) {
			return h, true
		}
	}
	return host{}, false
}
