package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"

	"vividstrain/core/partial"
)

func (a *app) trustCommand() *cli.Command {
	return command(&cli.Command{
		Name: "trust", Usage: "let a settings file start commands and send credentials", ArgsUsage: "[FILE]",
		Description: "A vividstrain.yaml in the current folder may have come with a download. It may set hold times and the\n" +
			"like, but it may not start commands, nor may credentials go to the address it names, until you have\n" +
			"read it and trust it. It is trusted as it is now: once it is changed, trust it again.",
		Action: a.trust,
	}, "vividstrain trust", "vividstrain trust vividstrain.yaml")
}

func (a *app) trust(_ context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return usagef("trust takes one file")
	}
	path := c.Args().First()
	if path == "" {
		path = settingsFile
	}
	data, err := readFile(path, maxSettings)
	if err != nil {
		return usage(err)
	}
	if path, err = filepath.Abs(path); err != nil {
		return err
	}
	known := trustedFiles()
	known[path] = checksum(data)
	text, err := encodeJSON(known)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(trustFile()), 0o700); err != nil {
		return err
	}
	if err := partial.Write(trustFile(), text); err != nil {
		return err
	}
	return a.print(path + " is trusted as it is now.\n")
}

// trustFile returns the file of checksums of trusted settings files, by path.
func trustFile() string { return filepath.Join(dataFolder(), "trusted.json") }

func trustedFiles() map[string]string {
	known := map[string]string{}
	data, err := os.ReadFile(trustFile())
	if err == nil && json.Unmarshal(data, &known) == nil {
		return known
	}
	return map[string]string{} // missing or unreadable: nothing is trusted
}

func checksum(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// distrust returns an error for a settings file that wants more than it may; nil for one that is
// trusted, or is in the user's own configuration folder.
func (s *settings) distrust(wants string) error {
	if !s.here || s.trusted {
		return nil
	}
	return usagef("%s in this folder %s; if it is yours, read it, and then: vividstrain trust", settingsFile, wants)
}

// mayRun returns an error if meters of the settings may not start the commands that they name.
func (s *settings) mayRun(sensors *yaml.Node) error {
	for _, item := range sensors.Content {
		for i := 0; i+1 < len(item.Content); i += 2 {
			if item.Content[i].Value == "command" {
				return s.distrust(fmt.Sprintf("starts a command (line %d)", item.Content[i].Line))
			}
		}
	}
	return nil
}

// mayHaveCredentials returns an error if the credentials may not be sent to the address of the
// settings.
func (s *settings) mayHaveCredentials(c *cli.Command) error {
	from, named := s.values["url"]
	if !named || c.String("url") != from.value || c.String("login") == "" && c.String("bearer") == "" {
		return nil
	}
	return s.distrust(fmt.Sprintf("says where to send your credentials (line %d)", from.line))
}

// maxSettings is the largest size of a settings file, in bytes.
const maxSettings = 1 << 20

// isTrusted reports whether the user has trusted a file in its present form.
func isTrusted(path string, data []byte) bool {
	absolute, err := filepath.Abs(path)
	return err == nil && trustedFiles()[absolute] == checksum(data)
}

// missing reports whether a file does not exist.
func missing(err error) bool { return errors.Is(err, fs.ErrNotExist) }
