package finder_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
)

type obj = testkit.Obj

// office offers 2,000 tools that resemble each other, as large servers' do.
func office() string {
	verbs := []string{"list", "get", "create", "update", "archive", "export", "count", "share", "approve", "comment_on"}
	things := []string{
		"invoice", "ticket", "employee", "contract", "engine_log", "spare_part", "cabin", "menu", "crate", "lifeboat",
		"permit", "survey", "photo", "weather_report", "radio_message", "booking", "refund", "passenger", "vehicle", "claim",
		"budget_line", "supplier", "delivery", "meeting", "newsletter", "training", "drill", "inspection", "certificate", "rota",
		"job_advert", "timesheet", "expense", "asset", "key", "camera", "alarm", "work_order", "checklist", "incident",
	}
	of := []string{"harbour", "vessel", "crew", "passenger_deck", "head_office"}
	list := []string{}
	for _, v := range verbs {
		for _, thing := range things {
			for _, where := range of {
				words := strings.NewReplacer("_", " ")
				list = append(list, fmt.Sprintf(`{"name":"%s_%s_%s","description":"%s the %s of the %s.","inputSchema":{"type":"object",
					"properties":{"id":{"type":"string","description":"number of the %s"}}}}`,
					v, where, thing, words.Replace(v), words.Replace(thing), words.Replace(where), words.Replace(thing)))
			}
		}
	}
	return `{"tools":[` + strings.Join(list, ",") + `]}`
}

// world has the ferries' servers and the office, and an agent that searches.
func world(t *testing.T) (*testkit.World, *testkit.Script, *seeker) {
	w := testkit.Start(t, nil)
	for name, server := range map[string]http.Handler{
		"sailings": ferries.Sailings(""), "berths": ferries.Berths(""), "tides": ferries.Tides(), "fuel": ferries.Fuel(),
		"crew": ferries.Crew(), "pilotage": ferries.Pilotage(), "tannoy": ferries.Tannoy(""),
	} {
		w.Register(name, testkit.Upstream(t, server), "")
	}
	s := testkit.NewScript(t)
	s.Results["tools/list"] = office()
	s.Call = func(c *testkit.ScriptCall) { c.Text("done " + c.Name) }
	w.Register("office", testkit.Upstream(t, s), "")
	pass := w.Agent("seeker")
	w.Must("PATCH", "/api/agents/seeker", obj{"finder": true}, nil)
	return w, s, &seeker{w.Raw("/mcp", pass, "2025-11-25")}
}

// seeker is an agent that searches.
type seeker struct{ *testkit.Raw }

func quoted(s string) string { raw, _ := json.Marshal(s); return string(raw) }

func (s *seeker) find(words string) []string {
	s.T.Helper()
	_, text := s.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"find_tools","arguments":{"query":` + quoted(words) + `}}}`)
	return found(s.T, text)
}

func found(t *testing.T, text string) []string {
	t.Helper()
	var in struct {
		Result struct {
			StructuredContent struct{ Tools []struct{ Name string } }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(text), &in), "%s", text)
	out := []string{}
	for _, tool := range in.Result.StructuredContent.Tools {
		out = append(out, tool.Name)
	}
	return out
}

// Among 2,000 tools that resemble each other, the tool that somebody asks for in their own
// words is nearly always among the five that come back.
func TestQuestionsFindTheirTool(t *testing.T) {
	t.Parallel()
	w, _, seeker := world(t)
	w.Rule("admit", "seeker", "*", "*")
	assert.Equal(t, []string{"find_tools", "call_tool"}, seeker.Names())
	questions := map[string]string{
		"which sailings go from Skerrow to Holm Voe today?":     "sailings__find_sailings",
		"find departures between two harbours with a car space": "sailings__find_sailings",
		"is SF203 delayed":                            "sailings__sailing_status",
		"on time or cancelled?":                       "sailings__sailing_status",
		"please cancel the evening sailing":           "sailings__cancel_sailing",
		"call off a sailing and tell the passengers":  "sailings__cancel_sailing",
		"what lies at the berths in Skerrow":          "berths__list_berths",
		"free berths":                                 "berths__list_berths",
		"give MV Petrel a berth":                      "berths__assign_berth",
		"assignBerth":                                 "berths__assign_berth",
		"when is high water at Brannasay":             "tides__tide_table",
		"tides tomorrow":                              "tides__tide_table",
		"how much fuel is on board":                   "fuel__bunker_levels",
		"litres in the tanks of each vessel":          "fuel__bunker_levels",
		"order 500 litres of fuel for MV Fulmar":      "fuel__order_fuel",
		"refuel, bunkering":                           "fuel__order_fuel",
		"who has the watch now":                       "crew__who_is_on_watch",
		"I want to swap my shift with Ebbe":           "crew__swap_shift",
		"get a pilot for the tanker":                  "pilotage__assign_pilot",
		"which pilots are on duty":                    "pilotage__pilots_on_duty",
		"say something over the loudspeakers":         "tannoy__announce",
		"announce that the gate is closed":            "tannoy__announce",
		"export the invoices of the head office":      "office__export_head_office_invoice",
		"comment on an inspection of a vessel":        "office__comment_on_vessel_inspection",
		"archive crew timesheets":                     "office__archive_crew_timesheet",
		"count lifeboats on the harbour":              "office__count_harbour_lifeboat",
		"approve a refund for the passenger deck":     "office__approve_passenger_deck_refund",
		"create new work order for the vessel":        "office__create_vessel_work_order",
		"update_head_office_supplier":                 "office__update_head_office_supplier",
		"share weather reports of the harbour":        "office__share_harbour_weather_report",
		"list the incidents there were on the vessel": "office__list_vessel_incident",
		"get engine log harbour":                      "office__get_harbour_engine_log",
	}
	missed := []string{}
	for question, tool := range questions {
		if got := seeker.find(question); !assert.ObjectsAreEqual(true, contains(got, tool)) {
			missed = append(missed, fmt.Sprintf("%s: %s, not %s", question, strings.Join(got, " "), tool))
		}
	}
	t.Logf("%d of %d questions find their tool", len(questions)-len(missed), len(questions))
	assert.LessOrEqual(t, len(missed), len(questions)/10, strings.Join(missed, "\n"))
	assert.Empty(t, seeker.find("zeppelin"))
	for _, hostile := range []string{`" OR *`, `name:sailing NEAR(`, "'; DROP TABLE tools; --", "\x00\xff", strings.Repeat("berth ", 2000), "-", "*"} {
		assert.LessOrEqual(t, len(seeker.find(hostile)), 5, hostile)
	}
	assert.NotEmpty(t, w.Calls(30, "agent=seeker&tool=find_tools"), "searches are in the journal")
}

func contains(list []string, want string) bool {
	return strings.Contains(" "+strings.Join(list, " ")+" ", " "+want+" ")
}

// What is found, and what can be called, is what rules admit, as they narrow it, in both
// eras; and the journal has the tool under its own name.
func TestFoundToolsAreUnderTheSameRules(t *testing.T) {
	t.Parallel()
	w, office, s := world(t)
	w.Must("POST", "/api/rules", obj{"name": "few", "effect": "admit", "agent": "seeker", "server": "office", "tool": "list_vessel_*"}, nil)
	w.Must("POST", "/api/rules", obj{
		"name": "numbers", "effect": "admit", "agent": "seeker", "server": "office", "tool": "get_vessel_invoice",
		"narrow": obj{"properties": obj{"id": obj{"enum": []string{"7", "8"}}}}, "description": "Reads one of two invoices.",
	}, nil)
	w.Must("POST", "/api/rules", obj{"name": "stop", "effect": "refuse", "agent": "seeker", "server": "office", "tool": "list_vessel_key"}, nil)
	w.Must("POST", "/api/rules", obj{"name": "ask", "effect": "hold", "agent": "seeker", "server": "office", "tool": "list_vessel_drill",
		"holdSeconds": 1}, nil)
	for _, name := range s.find("vessel list archive order fuel key") {
		assert.True(t, strings.HasPrefix(name, "office__list_vessel_") || name == "office__get_vessel_invoice", name)
		assert.NotEqual(t, "office__list_vessel_key", name)
	}
	none := &testkit.Raw{T: t, URL: w.Base + "/mcp", Pass: s.Pass}
	_, list := none.Stateless("tools/list", "", "{}")
	assert.Contains(t, list, `"name":"call_tool"`)
	assert.NotContains(t, list, "office__")
	for _, era := range []string{"session", "stateless"} {
		ask := func(tool, arguments string) string {
			if era == "session" {
				_, text := s.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"` + tool + `","arguments":` + arguments + `}}`)
				return text
			}
			_, text := none.Stateless("tools/call", `"name":"`+tool+`","arguments":`+arguments, "{}")
			return text
		}
		text := ask("find_tools", `{"query":"get a vessel's invoice","limit":1}`)
		assert.Equal(t, []string{"office__get_vessel_invoice"}, found(t, text), era)
		assert.Contains(t, text, `"enum":["7","8"]`, era)
		assert.Contains(t, text, "Reads one of two invoices.", era)
		call := func(name, arguments string) string {
			return ask("call_tool", `{"name":"`+name+`","arguments":`+arguments+`}`)
		}
		assert.Contains(t, call("office__get_vessel_invoice", `{"id":"7"}`), "done get_vessel_invoice", era)
		before := len(office.Seen("tools/call"))
		for name, row := range map[string][2]string{
			"office__get_vessel_invoice":   {`{"id":"9"}`, "arguments-not-admitted"},
			"office__list_vessel_key":      {`{}`, "rule-refuses"},
			"office__update_vessel_key":    {`{}`, "no-rule-admits"},
			"office__does_not_exist":       {`{}`, "unknown-tool"},
			"call_tool":                    {`{"name":"office__list_vessel_key"}`, "unknown-tool"},
			"OFFICE__list_vessel_key":      {`{}`, "unknown-tool"},
			"office__list_vessel_\u212aey": {`{}`, "unknown-tool"},
			"office__list_vessel_drill":    {`{}`, "held-undecided"},
		} {
			assert.Contains(t, call(name, row[0]), row[1], era+" "+name)
		}
		assert.Len(t, office.Seen("tools/call"), before, "%s: nothing of it reached the server", era)
		assert.Contains(t, ask("call_tool", `{}`), "call_tool needs name", era)
		assert.Contains(t, ask("call_tool", `[]`), "-32602", era)
		assert.Contains(t, ask("find_tools", `{"query":7}`), "find_tools needs query", era)
	}
	calls := w.Calls(2, "agent=seeker&tool=get_vessel_invoice&outcome=ok")
	assert.Equal(t, "numbers", calls[0].RuleName)
	assert.Empty(t, w.Calls(0, "agent=seeker&tool=call_tool&outcome=ok"))
	// What is taken away is no longer found, and a new edition is.
	w.Must("DELETE", "/api/rules/numbers", nil, nil)
	assert.NotContains(t, s.find("get a vessel's invoice"), "office__get_vessel_invoice")
	office.Results["tools/list"] = `{"tools":[{"name":"list_vessel_zeppelins","inputSchema":{"type":"object"}}]}`
	office.Say(`{"jsonrpc":"2.0","method":"notifications/tools/list_changed"}`)
	assert.Eventually(t, func() bool { return contains(s.find("zeppelin"), "office__list_vessel_zeppelins") }, 30*time.Second, 10*time.Millisecond)
	assert.Empty(t, s.find("drill"))
	w.Must("PATCH", "/api/agents/seeker", obj{"finder": false}, nil)
	assert.Equal(t, []string{"office__list_vessel_zeppelins"}, s.Names())
}
