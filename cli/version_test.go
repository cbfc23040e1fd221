package cli

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestVersionSaysWhatIsKnown(t *testing.T) {
	for want, b := range map[string]build{
		"development, commit not recorded":                            {},
		"v0.4.0, commit not recorded":                                 {version: "v0.4.0"},
		"v0.4.0, commit 0123456789ab of 2026-11-29":                   {"v0.4.0", "0123456789abcdef0123", "2026-11-29T01:02:03Z"},
		"development, commit 0123456789ab with changes of 2026-11-29": {"", "0123456789abcdef0123 with changes", "2026-11-29"},
		"development, commit 01234":                                   {"", "01234", ""},
	} {
		require.Equal(t, want, b.String())
	}
	require.Equal(t, "0123456789ab", build{commit: "0123456789abcdef with changes"}.short())
	require.Equal(t, "v1", build{version: "v1", commit: "0123456789abcdef"}.short())
}
