package load

import (
	"bytes"
	"encoding"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"go.yaml.in/yaml/v3"
)

// DecodeYAML decodes one YAML document into v. An unknown key is an error. Errors are one line
// and name the line of the file.
func DecodeYAML(data []byte, v any) error {
	d := yaml.NewDecoder(bytes.NewReader(data))
	d.KnownFields(true)
	err := d.Decode(v)
	if err == nil || errors.Is(err, io.EOF) {
		return nil
	}
	return oneLine(err)
}

// EncodeYAML encodes v as a YAML document.
func EncodeYAML(v any) ([]byte, error) {
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(v); err != nil {
		return nil, err
	}
	return b.Bytes(), e.Close()
}

// UnmarshalYAML parses a load line; errors state the line of the file.
func (l *Load) UnmarshalYAML(node *yaml.Node) error { return unmarshalText(node, l) }

// UnmarshalYAML parses a duration; errors state the line of the file.
func (d *Duration) UnmarshalYAML(node *yaml.Node) error { return unmarshalText(node, d) }

// unmarshalText parses the text of a scalar into v.
func unmarshalText(node *yaml.Node, v encoding.TextUnmarshaler) error {
	if node.Kind != yaml.ScalarNode {
		return fmt.Errorf("line %d: a text is expected here", node.Line)
	}
	if err := v.UnmarshalText([]byte(node.Value)); err != nil {
		return fmt.Errorf("line %d: %w", node.Line, err)
	}
	return nil
}

var goType = regexp.MustCompile(` (in type|into) \S+$`)

// oneLine returns the YAML reader's first complaint without its prefix and without names of Go
// types.
func oneLine(err error) error {
	text := err.Error()
	var several *yaml.TypeError
	if errors.As(err, &several) && len(several.Errors) > 0 {
		text = several.Errors[0]
	}
	text, _, _ = strings.Cut(strings.TrimPrefix(text, "yaml: "), "\n")
	text = goType.ReplaceAllString(text, "")
	text = strings.Replace(text, "field ", "unknown key ", 1)
	return errors.New(strings.TrimSuffix(strings.ToValidUTF8(text, "?"), " not found"))
}
