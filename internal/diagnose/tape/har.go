package tape

import (
	"strings"
	"time"

	"bouncer/internal/apitype"
)

// The HTTP archive format, version 1.2, as far as a tape has what goes into it.
type har struct {
	Log harLog `json:"log"`
}

type harLog struct {
	Version string     `json:"version"`
	Creator harCreator `json:"creator"`
	Entries []harEntry `json:"entries"`
}

type harCreator struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

type harEntry struct {
	Started  time.Time   `json:"startedDateTime"`
	Time     float64     `json:"time"`
	Request  harRequest  `json:"request"`
	Response harResponse `json:"response"`
	Cache    struct{}    `json:"cache"`
	Timings  harTimings  `json:"timings"`
}

type harRequest struct {
	Method      string     `json:"method"`
	URL         string     `json:"url"`
	Version     string     `json:"httpVersion"`
	Cookies     []struct{} `json:"cookies"`
	Headers     []harPair  `json:"headers"`
	Query       []harPair  `json:"queryString"`
	Post        *harPost   `json:"postData,omitempty"`
	HeadersSize int        `json:"headersSize"`
	BodySize    int        `json:"bodySize"`
}

type harPost struct {
	Type string `json:"mimeType"`
	Text string `json:"text"`
}

type harPair struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

type harResponse struct {
	Status      int        `json:"status"`
	Text        string     `json:"statusText"`
	Version     string     `json:"httpVersion"`
	Cookies     []struct{} `json:"cookies"`
	Headers     []harPair  `json:"headers"`
	Content     harContent `json:"content"`
	Redirect    string     `json:"redirectURL"`
	HeadersSize int        `json:"headersSize"`
	BodySize    int        `json:"bodySize"`
}

type harContent struct {
	Size int    `json:"size"`
	Type string `json:"mimeType"`
	Text string `json:"text,omitempty"`
}

type harTimings struct {
	Send    float64 `json:"send"`
	Wait    float64 `json:"wait"`
	Receive float64 `json:"receive"`
}

// archive makes exchanges of the heads of answers: each with the message that was sent
// before it on its line, and the messages that came after it.
func archive(t apitype.Tape) har {
	out := har{Log: harLog{Version: "1.2", Creator: harCreator{"bouncer", t.Bouncer}, Entries: []harEntry{}}}
	sent := map[uint64]apitype.TapeEntry{}
	last := map[uint64]int{}
	for _, e := range t.List {
		switch e.Kind {
		case "sent":
			sent[e.Line] = e
		case "answer":
			entry := harEntry{
				Started: e.At.Add(
					-time.Duration(e.TookMS * float64(time.Millisecond)),
				), Time: e.TookMS, Timings: harTimings{Wait: e.TookMS},
				Request: harRequest{
					Method: e.Method, URL: "bouncer:" + strings.Replace(t.Subject(), " ", ":", 1), Version: "HTTP/1.1", Cookies: []struct{}{},
					Headers: []harPair{}, Query: []harPair{},
					HeadersSize: -1, BodySize: -1,
				},
				Response: harResponse{
					Status: e.Status, Version: "HTTP/1.1", Cookies: []struct{}{}, Headers: []harPair{}, Redirect: e.Headers["Location"],
					HeadersSize: -1, BodySize: -1, Content: harContent{Type: e.Headers["Content-Type"]},
				},
			}
			if s, ok := sent[e.Line]; ok && e.Method == "POST" {
				entry.Request.Post = &harPost{"application/json", s.Text}
				entry.Request.BodySize = s.Size
				delete(sent, e.Line)
			}
			for name, value := range e.Headers {
				entry.Response.Headers = append(entry.Response.Headers, harPair{name, value})
			}
			out.Log.Entries = append(out.Log.Entries, entry)
			last[e.Line] = len(out.Log.Entries) - 1
		case "received":
			if i, ok := last[e.Line]; ok {
				c := &out.Log.Entries[i].Response.Content
				c.Text += e.Text
				c.Size += e.Size
			}
		}
	}
	return out
}
