package nal

import (
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
)

var someHDR = media.HDR{Primaries: [3][2]uint16{{1, 2}, {3, 4}, {5, 65535}}, White: [2]uint16{7, 8}, MaxLuminance: 1 << 31, MinLuminance: 5, MaxCLL: 1000, MaxFALL: 400}

func TestHDRMessagesRoundTrip(t *testing.T) {
	var got *media.HDR
	kinds := []int{}
	for kind, payload := range Messages(AppendHDR(nil, &someHDR)) {
		kinds = append(kinds, kind)
		ReadHDR(&got, kind, payload)
	}
	require.Equal(t, []int{SEIMastering, SEIContentLight}, kinds)
	require.Equal(t, &someHDR, got)
}

func TestMessagesOfAnySize(t *testing.T) {
	payload := make([]byte, 300)
	rbsp := append([]byte{255, 4, 255, 45}, payload...)
	rbsp = append(rbsp, 5, 1, 77, 0x80)
	var kinds, sizes []int
	for kind, payload := range Messages(rbsp) {
		kinds, sizes = append(kinds, kind), append(sizes, len(payload))
	}
	require.Equal(t, []int{259, 5}, kinds)
	require.Equal(t, []int{300, 1}, sizes)
	for n := range 304 { // cut short anywhere
		for range Messages(rbsp[:n]) {
			t.Fatal(n)
		}
	}
	for range Messages([]byte{255, 255, 255, 255}) {
		t.Fatal("a type without an end")
	}
}

// A message that is too short says nothing, and others are not taken for HDR.
func TestOtherMessagesAreNoHDR(t *testing.T) {
	var h *media.HDR
	ReadHDR(&h, SEIMastering, make([]byte, 23))
	ReadHDR(&h, SEIContentLight, make([]byte, 3))
	ReadHDR(&h, SEIRecoveryPoint, make([]byte, 30))
	require.Nil(t, h)
}
