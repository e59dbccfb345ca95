package ui

import (
	"slices"
	"strings"
)

// Difference writes the lines of a file that a change removes and adds, each with one line around it.
func (u *UI) Difference(file, before, after string) {
	u.say(u.bold(file))
	all := difference(strings.Split(strings.TrimSuffix(before, "\n"), "\n"),
		strings.Split(strings.TrimSuffix(after, "\n"), "\n"))
	for i, l := range all {
		near := func(j int) bool { return j >= 0 && j < len(all) && all[j].sign != ' ' }
		switch {
		case l.sign == '+':
			u.say("  " + u.paint(green, "+ "+printable(l.text)))
		case l.sign == '-':
			u.say("  " + u.paint(red, "- "+printable(l.text)))
		case near(i-1) || near(i+1):
			u.say("  " + u.dim("  "+printable(l.text)))
		}
	}
}

// changed is a line of a difference: added (+), removed (-) or in both.
type changed struct {
	sign byte
	text string
}

// difference returns the lines of two texts, with the longest common sequence of lines as those in both.
func difference(before, after []string) []changed {
	common := make([][]int, len(before)+1) // of the rests from two lines on
	for i := range common {
		common[i] = make([]int, len(after)+1)
	}
	for i := range slices.Backward(before) {
		for j := range slices.Backward(after) {
			if before[i] == after[j] {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	var all []changed
	i, j := 0, 0
	for i < len(before) && j < len(after) {
		switch {
		case before[i] == after[j]:
			all = append(all, changed{' ', before[i]})
			i, j = i+1, j+1
		case common[i+1][j] >= common[i][j+1]:
			all = append(all, changed{'-', before[i]})
			i++
		default:
			all = append(all, changed{'+', after[j]})
			j++
		}
	}
	for ; i < len(before); i++ {
		all = append(all, changed{'-', before[i]})
	}
	for ; j < len(after); j++ {
		all = append(all, changed{'+', after[j]})
	}
	return all
}
