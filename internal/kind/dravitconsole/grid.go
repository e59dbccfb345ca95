package dravitconsole

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"dravit/internal/kind"
)

// grid is a table on a page.
type grid struct {
	Columns []column
	Rows    [][]cell
	Full    bool // there are more rows
}

type column struct {
	Name   string
	Href   string // where the rows are in its order, or ""
	Sorted string // an arrow, if they are
	Number bool
}

type cell struct {
	Text string
	Null bool
	Href string
	Cut  bool // the value is longer

	Number bool
}

// errFull ends a query of which enough rows are there.
var errFull = errors.New("enough rows")

// take returns what fills the grid with up to most rows. Of several results, the last one counts.
func (g *grid) take(most int) kind.Rows {
	return kind.Rows{
		Columns: func(names []string) error {
			if g.Columns == nil || len(g.Rows) > 0 || len(g.Columns) != len(names) {
				g.Columns = nil
			}
			g.Rows, g.Full = nil, false
			if g.Columns == nil {
				for _, name := range names {
					g.Columns = append(g.Columns, column{Name: name})
				}
			}
			return nil
		},
		Row: func(values []*string) error {
			if len(g.Rows) == most {
				g.Full = true
				return errFull
			}
			var row []cell
			for _, v := range values {
				row = append(row, cellOf(v))
			}
			g.Rows = append(g.Rows, row)
			return nil
		},
	}
}

// longest is how much of a value a page shows, in characters.
const longest = 200

func cellOf(value *string) cell {
	if value == nil {
		return cell{Null: true, Text: "NULL"}
	}
	s := *value
	if !printable(s) {
		shown := min(len(s), 24)
		return cell{
			Text: fmt.Sprintf("%d bytes: %s", len(s), hex.EncodeToString([]byte(s[:shown]))),
			Cut:  shown < len(s),
		}
	}
	if utf8.RuneCountInString(s) > longest {
		return cell{Text: string([]rune(s)[:longest]), Cut: true}
	}
	return cell{Text: s}
}

func printable(s string) bool {
	return utf8.ValidString(s) && !strings.ContainsFunc(s, func(r rune) bool {
		return unicode.IsControl(r) && r != '\n' && r != '\t' && r != '\r'
	})
}
