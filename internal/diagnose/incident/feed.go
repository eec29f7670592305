package incident

import (
	"context"
	"encoding/xml"
	"fmt"
	"strings"
	"time"

	"bouncer/internal/core/team"
)

// feed is what goes wrong as a feed (RFC 4287).
type feed struct {
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

// Feed writes the incidents as a feed that readers of feeds understand; base is the
// address of the console.
func (svc *Service) Feed(ctx context.Context, by team.Person, base string) ([]byte, error) {
	list, err := svc.List(ctx, by)
	if err != nil {
		return nil, err
	}
	out := feed{ID: base + "/health", Title: "Incidents", Updated: time.Unix(0, 0).UTC().Format(time.RFC3339)}
	for _, i := range list {
		at, state := i.Since, "lasts"
		if i.Until != nil {
			at, state = *i.Until, "over"
		}
		one := entry{
			ID: base + "/incidents/" + i.ID, Title: fmt.Sprintf("%s: %s (%s)", i.Server, i.Title, state), Updated: at.Format(time.RFC3339),
			Summary: strings.Join(append([]string{i.Cause, "who has to act: " + i.Who, "what helps: " + i.Remedy}, i.Evidence...), "\n"),
		}
		one.Author.Name, one.Link.Href = "bouncer", base+"/incidents/"+i.ID
		out.Entries = append(out.Entries, one)
		out.Updated = max(out.Updated, one.Updated)
	}
	raw, err := xml.MarshalIndent(out, "", " ")
	if err != nil {
		return nil, fmt.Errorf("write the feed: %w", err)
	}
	return append([]byte(xml.Header), raw...), nil
}
