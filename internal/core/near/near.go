// Package near finds, of some names, the one that somebody probably meant.
package near

import "strings"

// Nearest returns the name that is nearest to what was typed, or "" when none is near:
// with at most a third of the letters, and one, to add, to drop or to replace. Case is
// worth nothing. The first of several equally near wins.
func Nearest(typed string, names []string) string {
	best, least := "", len(typed)/3+2
	lower := strings.ToLower(typed)
	for _, name := range names {
		if name == typed {
			continue
		}
		if n := distance(lower, strings.ToLower(name), least); n < least {
			best, least = name, n
		}
	}
	return best
}

// maxLength bounds the work for one pair.
const maxLength = 256

// distance is the number of letters to add, to drop or to replace (Levenshtein), or
// most when it is not less.
func distance(a, b string, most int) int {
	if len(a) > maxLength || len(b) > maxLength || len(a)-len(b) >= most || len(b)-len(a) >= most {
		return most
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			replaced := diagonal
			if a[i] != b[j] {
				replaced++
			}
			diagonal = row[j+1]
			row[j+1] = min(row[j+1]+1, row[j]+1, replaced)
		}
	}
	return min(row[len(b)], most)
}
