package upkeep

import (
	"slices"
	"time"
)

// How copies are kept as they grow old: those of a day, one of each day for a fortnight, and
// one of each week for a quarter.
const (
	mostOfADay = 48 // what is made by hand over and over does not fill the disk
	keepAll    = 24 * time.Hour
	keepDaily  = 14 * 24 * time.Hour
	keepWeekly = 92 * 24 * time.Hour
)

// Outlived are the copies that need not be kept any longer, by when they were made. The
// newest is always kept.
func Outlived(made []time.Time, now time.Time) (gone []time.Time) {
	sorted := slices.Clone(made)
	slices.SortFunc(sorted, func(a, b time.Time) int { return b.Compare(a) })
	seen := map[string]bool{}
	for i, at := range sorted {
		age, of := now.Sub(at), ""
		switch {
		case i == 0 || age < keepAll && i < mostOfADay:
			continue
		case age < keepDaily:
			of = at.UTC().Format(time.DateOnly)
		case age < keepWeekly:
			year, week := at.UTC().ISOWeek()
			of = time.Date(year, 1, week, 0, 0, 0, 0, time.UTC).Format("week " + time.DateOnly)
		}
		if of == "" || seen[of] {
			gone = append(gone, at)
		}
		seen[of] = true
	}
	return gone
}
