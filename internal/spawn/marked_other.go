//go:build !linux

package spawn

// marked finds nothing: the environments of processes cannot be read here.
func marked(string) []int { return nil }
