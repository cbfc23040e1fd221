package text

import "vividstrain/report/model"

// Comparison draws runs side by side.
func (s Style) Comparison(c *model.Comparison) string {
	clean := model.Clean(*c)
	out := s.Draw(clean.Table)
	for _, line := range clean.Sentences {
		out += "\n" + s.Wrap(line) + "\n"
	}
	if len(clean.Differs.Rows) > 0 {
		out += "\nWhat the runs differ in:\n" + s.Draw(clean.Differs)
	}
	for _, t := range clean.Tables {
		out += "\n" + t.Title + ":\n" + s.Draw(t.Table)
	}
	return out
}
