// Package feed writes incidents as a feed (Atom, RFC 4287), which readers of feeds understand.
package feed

import (
	"encoding/xml"
	"fmt"
	"strings"
	"time"

	"bouncer/internal/core/team"
)

type atom struct {
	XMLName xml.Name `xml:"http://www.w3.org/2005/Atom feed"`
	ID      string   `xml:"id"`
	Title   string   `xml:"title"`
	Updated string   `xml:"updated"`
	Entries []entry  `xml:"entry"`
}

type entry struct {
	ID      string `xml:"id"`
	Title   string `xml:"title"`
	Updated string `xml:"updated"`
	Author  struct {
		Name string `xml:"name"`
	} `xml:"author"`
	Link struct {
		Href string `xml:"href,attr"`
	} `xml:"link"`
	Summary string `xml:"summary"`
}

// Media is the media type of a feed.
const Media = "application/atom+xml"

// Of writes incidents as a feed; base is the address of the console.
func Of(list []team.Incident, base string) ([]byte, error) {
	out, newest := atom{ID: base + "/health", Title: "Incidents"}, time.Unix(0, 0)
	for _, i := range list {
		at, state := i.Since, "lasts"
		if i.Until != nil {
			at, state = *i.Until, "over"
		}
		one := entry{
			ID: base + "/incidents/" + i.ID, Title: fmt.Sprintf("%s: %s (%s)", i.Server, i.Title, state), Updated: written(at),
			Summary: strings.Join(append([]string{i.Cause, "who has to act: " + i.Who, "what helps: " + i.Remedy}, i.Evidence...), "\n"),
		}
		one.Author.Name, one.Link.Href = "bouncer", base+"/incidents/"+i.ID
		out.Entries = append(out.Entries, one)
		if at.After(newest) {
			newest = at
		}
	}
	out.Updated = written(newest)
	raw, err := xml.MarshalIndent(out, "", " ")
	if err != nil {
		return nil, fmt.Errorf("write the feed: %w", err)
	}
	return append([]byte(xml.Header), raw...), nil
}

func written(at time.Time) string { return at.UTC().Format(time.RFC3339) }
