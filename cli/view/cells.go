package view

import (
	"strings"

	"uparrot/cli/shell"
)

// ScaleWide is how many columns the numbers beside a chart take.
const ScaleWide = 10

// Cells are the rows of a chart, of half blocks.
type Cells [][]rune

// NewCells is a chart without marks.
func NewCells(columns, rows int) Cells {
	c := make(Cells, rows)
	for i := range c {
		c[i] = []rune(strings.Repeat(" ", columns))
	}
	return c
}

// Bar fills a column between two half rows.
func (c Cells) Bar(column, top, bottom int) {
	for h := top; h <= bottom; h++ {
		own := '▀'
		if h%2 == 1 {
			own = '▄'
		}
		if at := &c[h/2][column]; *at == ' ' {
			*at = own
		} else if *at != own {
			*at = '█'
		}
	}
}

// Across draws a line where nothing stands.
func (c Cells) Across(row int, r rune) {
	for i := range c[row] {
		if c[row][i] == ' ' {
			c[row][i] = r
		}
	}
}

// Down draws an upright line where nothing stands, with a word at its top.
func (c Cells) Down(column int, r rune, word string) {
	for i := range c {
		if c[i][column] == ' ' || c[i][column] == '╌' {
			c[i][column] = r
		}
	}
	label := []rune(shell.OneLine(word))
	for i, l := range label {
		if at := column + 1 + i; at < len(c[0]) && c[0][at] != '▀' && c[0][at] != '▄' && c[0][at] != '█' {
			c[0][at] = l
		}
	}
}
