package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"gopkg.in/yaml.v3"

	"missivum/service/files"
)

// signed is what is kept of services that somebody has signed in to, in a file that only they can read.
type signed struct {
	Last     string               `yaml:"last"` // address of the service that was signed in to last
	Services map[string]signedKey `yaml:"services"`
}

// signedKey is the key of one service.
type signedKey struct {
	Account string `yaml:"account"`
	Name    string `yaml:"name"` // of the key
	Key     string `yaml:"key"`
	Ends    string `yaml:"ends,omitempty"` // day
}

// signedFile is where keys are kept: in the folder for settings of the user who runs the program.
func signedFile() (string, error) {
	folder, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("where settings are kept: %w", err)
	}
	return filepath.Join(folder, "missivum", "keys.yaml"), nil
}

// readSigned reads what is kept; nothing where there is no file.
func readSigned() (signed, error) {
	s := signed{Services: map[string]signedKey{}}
	name, err := signedFile()
	if err != nil {
		return s, err
	}
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err == nil {
		err = yaml.Unmarshal(data, &s)
	}
	if err != nil {
		return s, fmt.Errorf("the keys of services cannot be read: %w", err)
	}
	if s.Services == nil {
		s.Services = map[string]signedKey{}
	}
	return s, nil
}

// write keeps it.
func (s signed) write() error {
	name, err := signedFile()
	if err != nil {
		return err
	}
	data, err := yaml.Marshal(s)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	if err := files.WriteBytes(name, data); err != nil {
		return err
	}
	return os.Chmod(name, 0o600)
}

// keyFrom is the key that a file holds, or without a file the environment; blank for none.
func keyFrom(file, environment string) (string, error) {
	if file == "" {
		return os.Getenv(environment), nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("the key cannot be read: %w", err)
	}
	return strings.TrimSpace(string(text)), nil
}

// keyFor is the key with which a service is asked: the one of the environment, or the one that is kept; blank for none.
func keyFor(server string) (string, error) {
	if key := os.Getenv("MISSIVUM_KEY"); key != "" {
		return key, nil
	}
	s, err := readSigned()
	return s.Services[server].Key, err
}
