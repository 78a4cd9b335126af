package handover

import (
	"fmt"
	"strings"
	"text/tabwriter"
	"time"
	"unicode"
)

// Text is the sheet for a terminal or a mail.
func (s *Sheet) Text() string {
	var b strings.Builder
	title := safe(s.Title)
	fmt.Fprintf(&b, "%s\n%s\n", title, strings.Repeat("=", len([]rune(title))))
	for _, section := range s.Sections {
		fmt.Fprintf(&b, "\n%s\n", section.Title)
		rows := tabwriter.NewWriter(&b, 0, 0, 2, ' ', 0)
		for _, r := range section.Rows {
			fmt.Fprintf(rows, "  %s\t%s\n", safe(r.Label), safe(r.Text))
		}
		rows.Flush()
		for _, c := range section.Commands {
			fmt.Fprintf(&b, "  # %s\n%s\n", c.For, c.Line)
		}
	}
	fmt.Fprintf(&b, "\nMade on %s. No secret is in this sheet.\n", s.Created.Format(time.DateOnly))
	return b.String()
}

// Markdown is the sheet in CommonMark.
func (s *Sheet) Markdown() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n", escaped(s.Title))
	for _, section := range s.Sections {
		fmt.Fprintf(&b, "\n## %s\n\n", section.Title)
		for _, r := range section.Rows {
			if r.Label == "" {
				fmt.Fprintf(&b, "- %s\n", escaped(r.Text))
			} else {
				fmt.Fprintf(&b, "- **%s**: %s\n", escaped(r.Label), escaped(r.Text))
			}
		}
		for _, c := range section.Commands {
			fmt.Fprintf(&b, "\n%s:\n\n```sh\n%s\n```\n", upper(c.For), c.Line)
		}
	}
	fmt.Fprintf(&b, "\nMade on %s. No secret is in this sheet.\n", s.Created.Format(time.DateOnly))
	return b.String()
}

// escaped keeps a text from being read as markup.
func escaped(text string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "_", `\_`, "`", "\\`", "<", `\<`, "[", `\[`, "#", `\#`).Replace(safe(text))
}

// safe takes control characters out.
func safe(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return -1
		}
		return r
	}, text)
}
