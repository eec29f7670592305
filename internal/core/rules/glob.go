package rules

import "unicode/utf8"

// Match reports whether name matches the glob: "*" stands for any run of characters,
// "?" for one, however many bytes it has. It takes time proportional to the product
// of both lengths at worst, whatever the pattern.
func Match(glob, name string) bool {
	if glob == all {
		return true
	}
	g, n, star, mark := 0, 0, -1, 0
	for n < len(name) {
		switch {
		case g < len(glob) && glob[g] == '*':
			star, mark = g, n
			g++
		case g < len(glob) && glob[g] == '?':
			g++
			n += width(name[n:])
		case g < len(glob) && glob[g] == name[n]:
			g++
			n++
		case star >= 0:
			g = star + 1
			mark += width(name[mark:])
			n = mark
		default:
			return false
		}
	}
	for g < len(glob) && glob[g] == '*' {
		g++
	}
	return g == len(glob)
}

// width is how many bytes the first character of a name has.
func width(name string) int {
	_, size := utf8.DecodeRuneInString(name)
	return size
}
