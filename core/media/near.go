package media

import (
	"regexp"
	"strings"

	"github.com/agext/levenshtein"
)

// Near returns the word that was probably meant: the most similar one of words, "" if none is
// similar. Case does not count.
func Near(word string, words []string) string {
	word = strings.ToLower(word)
	best, distance := "", len(word)/3+1
	for _, w := range words {
		if d := levenshtein.Distance(word, strings.ToLower(w), nil); d < distance {
			best, distance = w, d
		}
	}
	return best
}

// DidYouMean is the question that ends a message, "" where nothing similar is known.
func DidYouMean(word string) string {
	if word == "" {
		return ""
	}
	return "; did you mean " + word + "?"
}

// otherSizes maps names of picture sizes in trade and speech to size names.
var otherSizes = map[string]string{"sd": "576p", "hd": "720p", "fhd": "1080p", "fullhd": "1080p", "2k": "1080p", "qhd": "1440p", "4k": "2160p", "uhd": "2160p", "8k": "4320p"}

var (
	sizeInSpeech    = regexp.MustCompile(`^([a-z]+|[248]k)p?@?([0-9.]*)(fps|hz|p)?$`)
	sizeWithAt      = regexp.MustCompile(`^([0-9]+(?:x[0-9]+)?)([pi]?)@([0-9.]+)(?:fps|hz)?$`)
	rateWithUnit    = regexp.MustCompile(`^([0-9.]+)([kmg])(?:b|bit|bits)?(?:/s|ps)?$`)
	depthInNumerals = regexp.MustCompile(`^(8|10|12)-?(?:b|bits?)?$`)
)

// nearFormatWord returns the word of a format that was probably meant, "" if none is known:
// "4k50" is 2160p50, "1080p@50" is 1080p50, "20mbps" is 20M.
func nearFormatWord(w string) string {
	if m := sizeInSpeech.FindStringSubmatch(w); m != nil && otherSizes[m[1]] != "" {
		rate := m[2]
		if rate == "" {
			rate = "25"
		}
		return otherSizes[m[1]] + rate
	}
	if m := sizeWithAt.FindStringSubmatch(w); m != nil {
		scan := m[2]
		if scan == "" {
			scan = "p"
		}
		return m[1] + scan + m[3]
	}
	if m := rateWithUnit.FindStringSubmatch(w); m != nil {
		return m[1] + strings.Replace(strings.ToUpper(m[2]), "K", "k", 1)
	}
	if m := depthInNumerals.FindStringSubmatch(w); m != nil {
		return m[1] + "bit"
	}
	return Near(w, []string{"10bit", "12bit", "8bit", "4:2:0", "4:2:2", "hdr", "hlg", "sdr"})
}
