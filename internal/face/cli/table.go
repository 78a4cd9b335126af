package cli

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"unicode/utf8"

	"golang.org/x/term"
)

// table prints rows under a head, columns aligned; a bar stands between the names of the columns. On a terminal that is too narrow,
// columns are left out: those whose name ends in # and a digit, the highest first. What is still too wide is folded. What is
// piped stays whole.
func table(w io.Writer, head string, rows [][]string) {
	columns := strings.Split(strings.ReplaceAll(head, "(UTC)", "("+zoneName()+")"), "|")
	ranks := make([]int, len(columns))
	for i, name := range columns {
		if at := len(name) - 2; at > 0 && name[at] == '#' {
			columns[i], ranks[i] = name[:at], int(name[at+1]-'0')
		}
	}
	for _, row := range rows {
		for i := range row {
			row[i] = safe(row[i])
		}
	}
	var gone []string
	if width := widthOf(w); width > 0 {
		columns, rows, gone = fit(columns, ranks, rows, width)
	}
	t := tabwriter.NewWriter(w, 0, 0, gap, ' ', 0)
	fmt.Fprintln(t, strings.Join(columns, "\t"))
	for _, row := range rows {
		fmt.Fprintln(t, strings.Join(row, "\t"))
	}
	t.Flush()
	if len(gone) > 0 {
		fmt.Fprintf(w, "(no room for: %s)\n", strings.Join(gone, ", "))
	}
}

// widthOf is how many characters a line of a terminal has, 0 for what is no terminal.
func widthOf(w io.Writer) int {
	if file, ok := w.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
		if width, _, err := term.GetSize(int(file.Fd())); err == nil {
			return width
		}
	}
	return 0
}

// paragraph prints a text behind a head, the lines after the first indented, folded where it goes to a terminal.
func paragraph(w io.Writer, head, indent, text string) {
	lines := []string{text}
	if width := widthOf(w); width > 0 {
		lines = fold(text, max(width-utf8.RuneCountInString(indent), 2*leastColumn))
	}
	for i, line := range lines {
		if i > 0 {
			head = indent
		}
		fmt.Fprintln(w, head+line)
	}
}

// gap is what stands between two columns, in characters; leastColumn is what a column is not folded below.
const (
	gap         = 2
	leastColumn = 12
)

// fit makes a table fit a width: it leaves columns out by rank, and folds what is still too wide. It gives the names of
// the columns that it left out.
func fit(columns []string, ranks []int, rows [][]string, width int) (head []string, fitted [][]string, gone []string) {
	kept := make([]int, len(columns))
	for i := range kept {
		kept[i] = i
	}
	wide := func(i int) int {
		w := utf8.RuneCountInString(columns[i])
		for _, row := range rows {
			if i < len(row) {
				w = max(w, utf8.RuneCountInString(row[i]))
			}
		}
		return w
	}
	total := func() (all int) {
		for _, i := range kept {
			all += wide(i) + gap
		}
		return all - gap
	}
	var out []int
	for total() > width {
		least := slices.MaxFunc(kept, func(a, b int) int { return cmp.Compare(ranks[a], ranks[b]) })
		if ranks[least] == 0 {
			break
		}
		out = append(out, least)
		kept = slices.DeleteFunc(kept, func(i int) bool { return i == least })
	}
	for _, i := range slices.Backward(out) { // what a wider one has left room for comes back
		if total()+gap+wide(i) <= width {
			kept = append(kept, i)
		} else {
			gone = append(gone, columns[i])
		}
	}
	slices.Sort(kept)
	room := map[int]int{}
	for _, i := range kept {
		room[i] = wide(i)
	}
	for over := total() - width; over > 0; { // the widest ones give way
		widest := slices.MaxFunc(kept, func(a, b int) int { return cmp.Compare(room[a], room[b]) })
		if room[widest] <= leastColumn {
			break
		}
		room[widest]--
		over--
	}
	for _, i := range kept {
		head = append(head, columns[i])
	}
	for _, row := range rows {
		folded, lines := make([][]string, len(kept)), 1
		for n, i := range kept {
			if i < len(row) {
				folded[n] = fold(row[i], room[i])
				lines = max(lines, len(folded[n]))
			}
		}
		for line := range lines {
			cells := make([]string, len(kept))
			for n := range kept {
				if line < len(folded[n]) {
					cells[n] = folded[n][line]
				}
			}
			fitted = append(fitted, cells)
		}
	}
	return head, fitted, gone
}

// fold breaks a text into lines, at blanks and behind slashes, commas and semicolons, never inside a word.
func fold(text string, width int) (lines []string) {
	line := ""
	for text != "" {
		end := strings.IndexAny(text, " /,;") + 1
		if end == 0 {
			end = len(text)
		}
		word := text[:end]
		if line != "" && line != "/" && utf8.RuneCountInString(line+strings.TrimRight(word, " ")) > width {
			lines, line = append(lines, strings.TrimRight(line, " ")), ""
		}
		line += word
		text = text[end:]
	}
	return append(lines, strings.TrimRight(line, " "))
}
