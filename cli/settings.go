package cli

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"

	"vividstrain/core/media"
)

// settingsFile is read from the current folder, or else from the user's configuration folder.
const settingsFile = "vividstrain.yaml"

// settings holds values from a file for flags that are not given.
type settings struct {
	path    string
	values  map[string]setting
	sensors *yaml.Node                   // outside meters, nil: none
	facts   map[string]string            // about the device
	lists   map[string]map[string]string // names that stand for values of options, by the list's name
	asked   []string                     // names of the flags that can be set
	earlier []string                     // their names in earlier versions
	here    bool                         // the file is in the current folder
	trusted bool                         // and the user trusts it as it is
}

type setting struct {
	value string
	line  int
}

// readSettings reads the settings file, if there is one.
func readSettings() (*settings, error) {
	s := &settings{path: settingsFile, values: map[string]setting{}, lists: map[string]map[string]string{}}
	_, err := os.Stat(s.path)
	if s.here = err == nil; missing(err) {
		folder, folderErr := os.UserConfigDir()
		if folderErr != nil {
			return s, nil // a user without a home folder has no settings
		}
		s.path = filepath.Join(folder, "vividstrain", settingsFile)
		_, err = os.Stat(s.path)
	}
	if missing(err) {
		return s, nil
	}
	data, err := readFile(s.path, maxSettings)
	if err != nil {
		return nil, usage(err)
	}
	s.trusted = s.here && isTrusted(s.path, data)
	var root yaml.Node
	if err := yaml.Unmarshal(data, &root); err != nil {
		return nil, usagef("%s: %s", s.path, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	if len(root.Content) == 0 {
		return s, nil
	}
	top := root.Content[0]
	if top.Kind != yaml.MappingNode {
		return nil, usagef("%s: line %d: it must hold lines like \"hold: 20s\"", s.path, top.Line)
	}
	for i := 0; i+1 < len(top.Content); i += 2 {
		key, value := top.Content[i], top.Content[i+1]
		if key.Value == "sensors" {
			s.sensors = value
			continue
		}
		if key.Value == "facts" {
			if err := value.Decode(&s.facts); err != nil {
				return nil, usagef("%s: line %d: facts must be lines like \"price: 189EUR\"", s.path, value.Line)
			}
			for name, fact := range s.facts {
				if !factName.MatchString(name) || len(fact) > maxFact {
					return nil, usagef("%s: line %d: the fact %q must be a word with a value of at most %d letters", s.path, value.Line, name, maxFact)
				}
			}
			continue
		}
		if named[key.Value] {
			list := map[string]string{}
			if err := value.Decode(&list); err != nil {
				return nil, usagef("%s: line %d: %s must be lines like \"NAME: VALUE\"", s.path, value.Line, key.Value)
			}
			s.lists[key.Value] = list
			continue
		}
		if value.Kind != yaml.ScalarNode {
			return nil, usagef("%s: line %d: %s must have one value", s.path, value.Line, key.Value)
		}
		s.values[key.Value] = setting{value.Value, key.Line}
	}
	return s, nil
}

// sources returns where the value of a flag comes from when it is not given: the environment,
// then the settings file; names that the flag had in earlier versions are read after its own.
func (s *settings) sources(name string, earlier ...string) cli.ValueSourceChain {
	s.asked = append(s.asked, name)
	s.earlier = append(s.earlier, earlier...)
	chain := cli.EnvVars(envName(name))
	chain.Append(cli.NewValueSourceChain(&fileSource{s, name}))
	for _, name := range earlier {
		chain.Append(cli.NewValueSourceChain(earlierEnv(envName(name)), &fileSource{s, name}))
	}
	return chain
}

func envName(flag string) string {
	return "VIVIDSTRAIN_" + strings.ToUpper(strings.ReplaceAll(flag, "-", "_"))
}

// earlierEnv is a variable of the environment that is read but not shown in the help.
type earlierEnv string

func (e earlierEnv) Lookup() (string, bool) { return os.LookupEnv(string(e)) }
func (e earlierEnv) String() string         { return "environment variable " + string(e) }
func (e earlierEnv) GoString() string       { return e.String() }

// check finds keys of the settings file that belong to no flag.
func (s *settings) check(*cli.Command) error {
	slices.Sort(s.asked)
	known := slices.Compact(s.asked)
	var wrong error
	for _, key := range slices.SortedFunc(maps.Keys(s.values), func(a, b string) int { return cmp.Compare(s.values[a].line, s.values[b].line) }) {
		if slices.Contains(known, key) || slices.Contains(s.earlier, key) {
			continue
		}
		near := media.DidYouMean(media.Near(key, known))
		if near == "" {
			near = "; there are " + strings.Join(known, ", ")
		}
		wrong = errors.Join(wrong, fmt.Errorf("%s: line %d: unknown setting %q%s", s.path, s.values[key].line, key, near))
	}
	return usage(wrong)
}

// fileSource is the value of a flag in the settings file.
type fileSource struct {
	settings *settings
	name     string
}

func (f *fileSource) Lookup() (string, bool) {
	v, found := f.settings.values[f.name]
	return v.value, found
}

func (f *fileSource) String() string {
	return fmt.Sprintf("%s line %d", f.settings.path, f.settings.values[f.name].line)
}

func (f *fileSource) GoString() string { return f.String() }

// dataFolder returns where user data are stored on this system.
func dataFolder() string {
	home, err := os.UserHomeDir()
	if err != nil {
		return "."
	}
	switch runtime.GOOS {
	case "windows":
		if folder := os.Getenv("LOCALAPPDATA"); folder != "" {
			return filepath.Join(folder, "vividstrain")
		}
	case "darwin":
		return filepath.Join(home, "Library", "Application Support", "vividstrain")
	}
	if folder := os.Getenv("XDG_DATA_HOME"); filepath.IsAbs(folder) {
		return filepath.Join(folder, "vividstrain")
	}
	return filepath.Join(home, ".local", "share", "vividstrain")
}

func defaultLogbook() string { return filepath.Join(dataFolder(), "vividstrain.db") }

// defaultClips returns the folder in which clips are kept between runs.
func defaultClips() string {
	folder, err := os.UserCacheDir()
	if err != nil {
		folder = os.TempDir()
	}
	return filepath.Join(folder, "vividstrain", "clips")
}
