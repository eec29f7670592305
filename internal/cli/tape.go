package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/diagnose/tape"
)

func tapeCommands() []command {
	return []command{
		tapeListCommand(), tapeShowCommand(), tapeKeepCommand(), tapeFollowCommand(), tapeExportCommand(), tapeImportCommand(),
		tapeReplayCommand(), tapeCompareCommand(), tapePlayCommand(), tapeRemoveCommand(),
	}
}

func tapeListCommand() command {
	var server, agent string
	return command{
		noun: "tape", verb: "list",
		short:   "List the tapes: what went between Bouncer and servers or agents when something failed, or somebody asked",
		example: "bouncer tape list\nbouncer tape list --server customs\nbouncer tape list --agent marit-quill",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&server, "server", "", "only of this `server`")
			f.StringVar(&agent, "agent", "", "only of this `agent`")
		},
		run: func(ctx context.Context, t *task) error {
			query := url.Values{"server": {server}, "agent": {agent}}
			return fetch(ctx, t, "/api/tapes?"+query.Encode(), func(list []apitype.TapeInfo) error {
				if len(list) == 0 {
					return t.done("no tapes yet; keep one with: bouncer tape keep SERVER")
				}
				var rows [][]string
				for _, i := range list {
					from := i.By
					if i.Imported {
						from += ", imported"
					}
					rows = append(rows, []string{i.ID, i.Subject(), clock(i.Until), strconv.Itoa(i.Entries), from, clip(i.Reason, 70)})
				}
				return t.table([]string{"ID", "OF", "UNTIL", "ENTRIES", "KEPT BY", "REASON"}, rows)
			})
		},
	}
}

func tapeShowCommand() command {
	return command{
		noun: "tape", verb: "show", args: "ID", short: "Show a tape as a conversation: who said what when, gaps, and words in between",
		example: "bouncer tape show 01M8DPVGH9R4YGPDNK36GREJ0Z",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/tapes/"+seg(t.args[0]), func(tape apitype.Tape) error {
				fmt.Fprintf(
					t.Out,
					"%s, %s to %s, kept by %s: %s\n\n",
					tape.Subject(),
					clock(tape.Since),
					clock(tape.Until),
					tape.By,
					tape.Reason,
				)
				t.view().showEntries(tape.List, 0)
				return nil
			})
		},
	}
}

// signs are how the kinds of entries are shown.
var signs = map[string]string{
	"sent": "-->", "received": "<--", "answer": "<==", "noise": "??", "stderr": "err", "state": "***", "broke": "x--",
}

// gap is a silence that is worth telling, in milliseconds.
const gap = 2000

// showEntries shows entries as a conversation; before is when the last one was, in
// milliseconds.
func (t view) showEntries(list []apitype.TapeEntry, before float64) float64 {
	for _, e := range list {
		if before > 0 && e.MS-before > gap {
			fmt.Fprintf(t.Out, "%12s ... nothing for %.1f s\n", "", (e.MS-before)/1000)
		}
		before = e.MS
		text := clip(e.Text, 150)
		switch {
		case e.Kind == "answer":
			text = fmt.Sprintf("%s %d after %.1f ms", e.Method, e.Status, e.TookMS)
			for name, value := range e.Headers {
				text += "  " + name + ": " + clip(value, 60)
			}
		case e.Size > len(e.Text):
			text += fmt.Sprintf(" [%d bytes]", e.Size)
		}
		fmt.Fprintf(t.Out, "%9.1f ms %3d %-3s %s\n", e.MS, e.Line, signs[e.Kind], text)
	}
	return before
}

func tapeKeepCommand() command {
	var reason, agent string
	return command{
		noun: "tape", verb: "keep", args: "[SERVER]", short: "Keep what the flight recorder has of a server, or of an agent, as a tape",
		example: "bouncer tape keep sailings --reason 'slow since noon'\nbouncer tape keep --agent marit-quill",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&reason, "reason", "", "why, in `words`")
			f.StringVar(&agent, "agent", "", "of this `agent`, instead of a server")
		},
		run: func(ctx context.Context, t *task) error {
			server, err := serverOrAgent(t, "keep", agent)
			if err != nil {
				return err
			}
			return submit(ctx, t, http.MethodPost, "/api/tapes", apitype.KeepTape{Server: server, Agent: agent, Reason: reason},
				func(i apitype.TapeInfo) error {
					return t.done("kept %d entries as %s; bouncer tape show %s", i.Entries, i.ID, i.ID)
				})
		},
	}
}

// serverOrAgent is the server that is named, where no agent is.
func serverOrAgent(t *task, verb, agent string) (server string, err error) {
	if (len(t.args) > 0) == (agent != "") {
		return "", &usageError{"name a server, or an agent with --agent", "as in: bouncer tape " + verb + " --agent marit-quill"}
	}
	if agent != "" {
		return "", nil
	}
	return t.args[0], nil
}

func tapeFollowCommand() command {
	var agent string
	return command{
		noun: "tape", verb: "follow", args: "[SERVER]", short: "Show what goes between Bouncer and a server, or an agent, as it goes, until Ctrl-C",
		example: "bouncer tape follow sailings\nbouncer tape follow --agent marit-quill",
		flags:   func(f *flag.FlagSet) { f.StringVar(&agent, "agent", "", "of this `agent`, instead of a server") },
		run: func(ctx context.Context, t *task) error {
			server, err := serverOrAgent(t, "follow", agent)
			if err != nil {
				return err
			}
			path := "/api/servers/" + seg(server) + "/heard"
			if agent != "" {
				path = "/api/agents/" + seg(agent) + "/heard"
			}
			tick := time.NewTicker(lookEvery)
			defer tick.Stop()
			after, began := "", time.Time{}
			before := 0.0
			for {
				var list []apitype.TapeEntry
				if err := t.client.Get(ctx, path+after, &list); err != nil {
					return err
				}
				for i := range list {
					if began.IsZero() {
						began = list[0].At
					}
					list[i].MS = float64(list[i].At.Sub(began).Microseconds()) / 1000
					after = "?after=" + strconv.FormatUint(list[i].N, 10)
				}
				before = t.view().showEntries(list, before)
				select {
				case <-ctx.Done():
					return nil
				case <-tick.C:
				}
			}
		},
	}
}

func tapeExportCommand() command {
	var form string
	return command{
		noun: "tape", verb: "export", args: "ID", short: "Write a tape in an open format: JSON by lines, or an HTTP archive (HAR 1.2)",
		example: "bouncer tape export ID > customs.jsonl\nbouncer tape export ID --form har > customs.har",
		flags:   func(f *flag.FlagSet) { f.StringVar(&form, "form", "jsonl", "`form`: jsonl or har") },
		run: func(ctx context.Context, t *task) error {
			body, err := t.client.Stream(ctx, "/api/tapes/"+seg(t.args[0])+"/export?form="+url.QueryEscape(form))
			if err != nil {
				return err
			}
			defer body.Close()
			_, err = io.Copy(t.Out, body)
			return err
		},
	}
}

func tapeImportCommand() command {
	return command{
		noun: "tape", verb: "import", args: "FILE", short: "Take a tape of another machine; - for standard input",
		example: "bouncer tape import customs.jsonl",
		run: func(ctx context.Context, t *task) error {
			text, err := t.file(t.args[0])
			if err != nil {
				return err
			}
			return submit(ctx, t, http.MethodPost, "/api/tapes/imports", apitype.ImportTape{Text: text}, func(i apitype.TapeInfo) error {
				return t.done("imported %d entries of %s as %s", i.Entries, i.Subject(), i.ID)
			})
		},
	}
}

func tapeReplayCommand() command {
	var calls bool
	return command{
		noun: "tape", verb: "replay", args: "ID", short: "Send the requests of a tape again, and show what is answered otherwise",
		long:    "Those of a server's tape are sent to the server as it is now, those of an agent's to Bouncer, as that agent.",
		example: "bouncer tape replay 01M8DPVGH9R4YGPDNK36GREJ0Z",
		flags: func(f *flag.FlagSet) {
			f.BoolVar(&calls, "calls", false, "also the calls of tools, which can do something")
		},
		run: func(ctx context.Context, t *task) error {
			return submit(
				ctx,
				t,
				http.MethodPost,
				"/api/tapes/"+seg(t.args[0])+"/replay",
				apitype.ReplayTape{Calls: calls},
				t.view().showReplayed,
			)
		},
	}
}

func tapeCompareCommand() command {
	return command{
		noun: "tape", verb: "compare", args: "ID OTHER", short: "Compare two tapes by the answers to the requests that both have",
		example: "bouncer tape compare ID OTHER",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/tapes/"+seg(t.args[0])+"/differences/"+seg(t.args[1]), t.view().showReplayed)
		},
	}
}

func (t view) showReplayed(r apitype.Replayed) error {
	for _, d := range r.Differ {
		fmt.Fprintf(t.Out, "%s %s\n  then  %s\n  now   %s\n", d.Method, clip(string(d.Params), 80), clip(d.Then, 150), clip(d.Now, 150))
		for _, at := range d.Where {
			fmt.Fprintf(t.Out, "  at    %s\n", at)
		}
	}
	return t.done("%d alike, %d otherwise, %d not compared", r.Same, len(r.Differ), r.Skipped)
}

func tapePlayCommand() command {
	var listen string
	return command{
		noun: "tape", verb: "play", args: "FILE", local: true, short: "Answer as was answered on a tape, on this machine, until Ctrl-C",
		long:    "It is the recorded side of the server, or of Bouncer towards an agent, as a stand-in against a client: an exported tape, as JSON by lines.",
		example: "bouncer tape play customs.jsonl --listen 127.0.0.1:4799",
		flags:   func(f *flag.FlagSet) { f.StringVar(&listen, "listen", "127.0.0.1:0", "`address` to listen on") },
		run: func(ctx context.Context, t *task) error {
			raw, err := t.file(t.args[0])
			if err != nil {
				return err
			}
			tp, err := tape.Parse([]byte(raw))
			if err != nil {
				return &usageError{t.args[0] + ": " + err.Error(), "export one with: bouncer tape export ID"}
			}
			l, err := net.Listen("tcp", listen)
			if err != nil {
				return &usageError{"it cannot listen on " + listen + ": " + err.Error(), "choose another address with --listen"}
			}
			player := tape.NewPlayer(tp)
			player.Missed = func(method string) { fmt.Fprintf(t.Err, "the tape has no answer for %s\n", method) }
			server := &http.Server{Handler: player, ReadHeaderTimeout: 10 * time.Second}
			stop := context.AfterFunc(ctx, func() { _ = server.Close() })
			defer stop()
			fmt.Fprintf(t.Out, "the tape of %s answers at http://%s/mcp\n", tp.Subject(), l.Addr())
			if err := server.Serve(l); err != nil && !errors.Is(err, http.ErrServerClosed) && !errors.Is(err, os.ErrClosed) {
				return err
			}
			return nil
		},
	}
}

func tapeRemoveCommand() command {
	return command{
		noun: "tape", verb: "remove", args: "ID", short: "Remove a tape", example: "bouncer tape remove 01M8DPVGH9R4YGPDNK36GREJ0Z",
		run: func(ctx context.Context, t *task) error {
			if err := t.client.Delete(ctx, "/api/tapes/"+seg(t.args[0])); err != nil {
				return err
			}
			return t.done("removed")
		},
	}
}
