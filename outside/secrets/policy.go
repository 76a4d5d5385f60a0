package secrets

import (
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"knothole/outside/gate"
)

// policyFile is the form of a policy in its file.
type policyFile struct {
	Variables []string   `toml:"variables"`
	Hosts     []hostFile `toml:"hosts"`
}

type hostFile struct {
	Host      string    `toml:"host"`
	Token     tokenFile `toml:"token"`
	Authority string    `toml:"authority"`
	Address   string    `toml:"address"`
}

type tokenFile struct {
	Variable string `toml:"variable"`
	File     string `toml:"file"`
}

// ReadPolicy reads a policy, which must stand outside of the project. Paths in it begin at its directory.
func ReadPolicy(name, project string) (*Policy, error) {
	if real, err := gate.Real(name); err == nil {
		if within, err := gate.Real(project); err == nil {
			if to, err := filepath.Rel(within, real); err == nil && filepath.IsLocal(to) {
				return nil, fmt.Errorf("the secret policy %s is part of the project: it must be outside, where "+
					"no change to the project reaches it", name)
			}
		}
	}
	text, err := gate.ReadSome(name, maxBytes)
	if err != nil {
		return nil, fmt.Errorf("the secret policy %s cannot be read: %w", name, gate.Plain(err))
	}
	var file policyFile
	decoder := toml.NewDecoder(strings.NewReader(string(text))).DisallowUnknownFields()
	if err := decoder.Decode(&file); err != nil {
		return nil, fmt.Errorf("the secret policy %s%s", name, mistake(err))
	}
	p := &Policy{variables: file.Variables}
	for _, f := range file.Hosts {
		h := host{name: f.Host, address: f.Address}
		if f.Host == "" || strings.Contains(f.Host, "/") {
			return nil, fmt.Errorf(`the secret policy %s: a host is a name, with a port if it is not 443, such as `+
				`"store.floodwatch.example:8443", not %q`, name, f.Host)
		}
		switch {
		case f.Token.Variable != "" && f.Token.File != "":
			return nil, fmt.Errorf("the secret policy %s: the token for %s comes from a variable or a file, not "+
				"from both", name, f.Host)
		case f.Token.Variable != "":
			variable := f.Token.Variable
			h.token = func() (string, error) {
				if text := os.Getenv(variable); text != "" {
					return text, nil
				}
				return "", fmt.Errorf("the variable %s is not set", variable)
			}
		case f.Token.File != "":
			from := beside(name, f.Token.File)
			h.token = func() (string, error) {
				text, err := gate.ReadSome(from, maxBytes)
				if err != nil {
					return "", fmt.Errorf("%s cannot be read: %w", from, gate.Plain(err))
				}
				return strings.TrimSpace(string(text)), nil
			}
		}
		if f.Authority != "" {
			from := beside(name, f.Authority)
			text, err := gate.ReadSome(from, maxBytes)
			if err != nil {
				return nil, fmt.Errorf("the secret policy %s: the authority %s cannot be read: %w", name, from,
					gate.Plain(err))
			}
			h.authorities = x509.NewCertPool()
			if !h.authorities.AppendCertsFromPEM(text) {
				return nil, fmt.Errorf("the secret policy %s: %s holds no certificate (PEM)", name, from)
			}
		}
		p.hosts = append(p.hosts, h)
	}
	return p, nil
}

// beside returns a path that begins at the directory of another.
func beside(name, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Dir(name), path)
}

// mistake tells where a policy is wrong, without its text.
func mistake(err error) string {
	var strict *toml.StrictMissingError
	if errors.As(err, &strict) && len(strict.Errors) > 0 {
		e := strict.Errors[0]
		row, column := e.Position()
		return fmt.Sprintf(":%d:%d: there is no key %q: it has variables, and hosts with host, address, token and "+
			"authority", row, column, strings.Join(e.Key(), "."))
	}
	var decode *toml.DecodeError
	if errors.As(err, &decode) {
		row, column := decode.Position()
		return fmt.Sprintf(":%d:%d: %s", row, column, strings.TrimPrefix(decode.Error(), "toml: "))
	}
	return ": " + err.Error()
}
