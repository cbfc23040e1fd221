package meter

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
)

// ConfigError states where a configuration is wrong.
type ConfigError struct {
	Line int
	Key  string
	Err  error
}

func (e *ConfigError) Error() string {
	if e.Key == "" {
		return fmt.Sprintf("line %d: %v", e.Line, e.Err)
	}
	return fmt.Sprintf("line %d: %s: %v", e.Line, e.Key, e.Err)
}

func (e *ConfigError) Unwrap() error { return e.Err }

// entry is the configuration of one meter: its keys with their nodes.
type entry struct {
	line int
	keys map[string]*yaml.Node
	err  error // the first error
}

// kinds maps the keys that name a kind of meter to how it is made.
var kinds = map[string]struct {
	keys []string
	open func(e *entry, name string, every time.Duration, picks []Pick) (Source, error)
}{
	"metrics": {[]string{"token"}, func(e *entry, name string, every time.Duration, picks []Pick) (Source, error) {
		return NewMetrics(name, e.text("metrics"), e.text("token"), every, picks)
	}},
	"json": {[]string{"token"}, func(e *entry, name string, every time.Duration, picks []Pick) (Source, error) {
		return NewJSON(name, e.text("json"), e.text("token"), every, picks)
	}},
	"mqtt": {[]string{"topic", "user", "password"}, func(e *entry, name string, every time.Duration, picks []Pick) (Source, error) {
		return NewMQTT(name, e.text("mqtt"), e.text("topic"), e.text("user"), e.text("password"), every, picks)
	}},
	"snmp": {[]string{"community", "user", "auth", "auth_key", "priv", "priv_key"}, func(e *entry, name string, every time.Duration, picks []Pick) (Source, error) {
		return NewSNMP(name, e.text("snmp"), SNMPAccess{e.text("community"), e.text("user"), e.text("auth_key"), e.text("priv_key"), e.text("auth"), e.text("priv")}, every, picks)
	}},
	"command": {nil, func(e *entry, name string, every time.Duration, picks []Pick) (Source, error) {
		if len(picks) != 1 {
			return nil, errors.New("a command prints one number: name one quantity under \"read\"")
		}
		return NewCommand(name, e.words("command"), every, picks[0])
	}},
	"csv": {nil, func(e *entry, name string, every time.Duration, picks []Pick) (Source, error) {
		return NewCSV(name, e.text("csv"), every, picks), nil
	}},
}

// needsPicks are the kinds of which nothing is known without read:.
var needsPicks = []string{"json", "mqtt", "command", "csv"}

// Parse makes the meters of a list in YAML (docs/sensors.md). Errors have type *ConfigError.
func Parse(node *yaml.Node) (list []Source, err error) {
	defer func() {
		if err != nil {
			for _, s := range list {
				s.Close()
			}
			list = nil
		}
	}()
	if node.Kind != yaml.SequenceNode {
		return nil, &ConfigError{node.Line, "sensors", errors.New("it must be a list, each meter after a dash")}
	}
	names := map[string]bool{}
	for _, item := range node.Content {
		s, err := parseEntry(item)
		if err != nil {
			return list, err
		}
		list = append(list, s)
		if names[s.Name()] {
			return list, &ConfigError{item.Line, "name", fmt.Errorf("there are two meters %q; give one another name", s.Name())}
		}
		names[s.Name()] = true
	}
	return list, nil
}

func parseEntry(node *yaml.Node) (Source, error) {
	e, err := newEntry(node)
	if err != nil {
		return nil, err
	}
	kind := ""
	for key := range e.keys {
		if _, is := kinds[key]; is {
			if kind != "" {
				return nil, &ConfigError{e.keys[key].Line, key, fmt.Errorf("a meter is one thing; this one is %s, too", kind)}
			}
			kind = key
		}
	}
	known := []string{"name", "every", "read"}
	if kind == "" {
		return nil, &ConfigError{e.line, "", fmt.Errorf("a meter needs one of %s", strings.Join(kindNames(), ", "))}
	}
	known = append(append(known, kind), kinds[kind].keys...)
	for key, value := range e.keys {
		if !slices.Contains(known, key) {
			return nil, &ConfigError{value.Line, key, fmt.Errorf("it is not known; %s has %s", kind, strings.Join(known, ", "))}
		}
	}
	name, every := e.text("name"), 2*time.Second
	if name == "" {
		name = kind
	}
	if strings.ContainsAny(name, ":@ \t\n") || len(name) > 32 {
		return nil, &ConfigError{e.lineOf("name"), "name", fmt.Errorf("%q must be a short word", name)}
	}
	if text := e.text("every"); text != "" {
		every, err = time.ParseDuration(text)
		if err != nil || every < 100*time.Millisecond || every > time.Hour {
			return nil, &ConfigError{e.lineOf("every"), "every", fmt.Errorf("%q is not a time from 100ms to 1h", text)}
		}
	}
	picks, err := e.picks()
	if err != nil {
		return nil, err
	}
	if len(picks) == 0 && slices.Contains(needsPicks, kind) {
		return nil, &ConfigError{e.line, "read", errors.New("name what is to be read, like \"power_w: use.active\"")}
	}
	if e.err != nil {
		return nil, e.err
	}
	s, err := kinds[kind].open(e, name, every, picks)
	if e.err != nil {
		return nil, e.err
	}
	if err != nil {
		return nil, &ConfigError{e.lineOf(kind), kind, err}
	}
	return s, nil
}

func kindNames() (list []string) {
	for k := range kinds {
		list = append(list, k)
	}
	slices.Sort(list)
	return list
}

// newEntry reads the keys of a mapping.
func newEntry(node *yaml.Node) (*entry, error) {
	if node.Kind != yaml.MappingNode {
		return nil, &ConfigError{node.Line, "", errors.New("it must hold keys and values")}
	}
	e := &entry{line: node.Line, keys: map[string]*yaml.Node{}}
	for i := 0; i+1 < len(node.Content); i += 2 {
		key := node.Content[i]
		if _, twice := e.keys[key.Value]; twice {
			return nil, &ConfigError{key.Line, key.Value, errors.New("it is there twice")}
		}
		e.keys[key.Value] = node.Content[i+1]
	}
	return e, nil
}

func (e *entry) lineOf(key string) int {
	if n := e.keys[key]; n != nil {
		return n.Line
	}
	return e.line
}

// text returns the value of a key, or "".
func (e *entry) text(key string) string {
	n := e.keys[key]
	if n == nil {
		return ""
	}
	if n.Kind != yaml.ScalarNode && e.err == nil {
		e.err = &ConfigError{n.Line, key, errors.New("it must have one value")}
	}
	return n.Value
}

// words returns a command: a list, or words separated by spaces.
func (e *entry) words(key string) (list []string) {
	n := e.keys[key]
	if n.Kind != yaml.SequenceNode {
		return strings.Fields(e.text(key))
	}
	for _, w := range n.Content {
		list = append(list, w.Value)
	}
	return list
}

// picks returns the quantities to read, each with its place in the meter's data, or with place,
// label, unit and scale.
func (e *entry) picks() (list []Pick, err error) {
	node := e.keys["read"]
	if node == nil {
		return nil, nil
	}
	if _, err := newEntry(node); err != nil {
		return nil, err
	}
	for i := 0; i+1 < len(node.Content); i += 2 {
		key, value := node.Content[i], node.Content[i+1]
		quantity, label, _ := strings.Cut(key.Value, ":")
		if err := CheckQuantity(quantity); err != nil {
			return nil, &ConfigError{key.Line, key.Value, err}
		}
		p := Pick{Quantity: quantity, Label: label, At: value.Value, Scale: 1}
		if value.Kind == yaml.MappingNode {
			if err := p.details(value); err != nil {
				return nil, err
			}
		} else if value.Kind != yaml.ScalarNode {
			return nil, &ConfigError{value.Line, key.Value, errors.New("it must have one value, or at, unit and scale")}
		}
		list = append(list, p)
	}
	return list, nil
}

// details reads at, unit and scale.
func (p *Pick) details(node *yaml.Node) error {
	e, err := newEntry(node)
	if err != nil {
		return err
	}
	for key, value := range e.keys {
		if !slices.Contains([]string{"at", "unit", "scale"}, key) {
			return &ConfigError{value.Line, key, fmt.Errorf("it is not known; %s has at, unit, scale", p.Quantity)}
		}
	}
	p.At = e.text("at")
	if from := e.text("unit"); from != "" {
		if p.Scale, p.Offset, err = Convert(p.Quantity, from); err != nil {
			return &ConfigError{e.lineOf("unit"), "unit", err}
		}
	}
	if text := e.text("scale"); text != "" {
		v, err := strconv.ParseFloat(text, 64)
		if err != nil || v == 0 || v-v != 0 {
			return &ConfigError{e.lineOf("scale"), "scale", fmt.Errorf("%q is not a number to multiply with", text)}
		}
		p.Scale *= v
	}
	return e.err
}
