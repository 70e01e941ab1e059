package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"go.yaml.in/yaml/v3"

	"arithmon/internal/app/client"
)

// signedIn is where this user is signed in. It is kept in a file that nobody else may read.
type signedIn struct {
	Current  string                `yaml:"current,omitempty"` // URL of the service that commands go to unless they name one
	Services map[string]*signature `yaml:"services"`          // by URL
}

// signature is how this user is known to a service, and the service to this user.
type signature struct {
	Account     string `yaml:"account"`
	Token       string `yaml:"token"`
	Name        string `yaml:"name"` // of the token
	Fingerprint string `yaml:"fingerprint,omitempty"`
}

// signedInFile is where that is kept.
func signedInFile() string { return filepath.Join(dataDir(), "signed-in.yaml") }

// readSignedIn reads where this user is signed in; nowhere when there is no file.
func readSignedIn() (*signedIn, error) {
	s := &signedIn{Services: map[string]*signature{}}
	data, err := os.ReadFile(signedInFile())
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err == nil {
		err = yaml.Unmarshal(data, s)
	}
	if err != nil {
		return s, fmt.Errorf("%s cannot be read; remove it and sign in again: %w", signedInFile(), err)
	}
	if s.Services == nil {
		s.Services = map[string]*signature{}
	}
	return s, nil
}

// write keeps it, in one step.
func (s *signedIn) write() error {
	data, err := yaml.Marshal(s)
	if err != nil {
		return err
	}
	dir := filepath.Dir(signedInFile())
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return err
	}
	f, err := os.CreateTemp(dir, ".signed-in-*") // with mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // without effect once it has its name
	_, err = f.Write(data)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), signedInFile())
}

// at is how the user is known to a service.
func (s *signedIn) at(url string) *signature {
	for known, signature := range s.Services {
		if signature != nil && sameService(known, url) {
			return signature
		}
	}
	return nil
}

func sameService(a, b string) bool {
	return strings.EqualFold(strings.TrimSuffix(a, "/"), strings.TrimSuffix(b, "/"))
}

// access is what is shown to a service: what the environment says, or what was kept when the user signed in.
func (a *app) access(s *signedIn) client.Access {
	out := client.Access{Token: a.Getenv("ARITHMON_TOKEN"), Fingerprint: a.Getenv("ARITHMON_FINGERPRINT")}
	if kept := s.at(a.server); kept != nil {
		if out.Token == "" {
			out.Token = kept.Token
		}
		if out.Fingerprint == "" {
			out.Fingerprint = kept.Fingerprint
		}
	}
	return out
}
