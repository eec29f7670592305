package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/quiet"
)

func mailCommands() []command {
	return []command{
		{
			noun: "mail", verb: "show", short: "Show what you are told of by mail, and when", example: "bouncer mail show",
			run: func(ctx context.Context, t *task) error {
				return fetch(ctx, t, "/api/session/mail", t.view().showMailWish)
			},
		},
		mailSetCommand(),
		{
			noun: "mail", verb: "test", short: "Send yourself a mail for a trial", example: "bouncer mail test",
			run: func(ctx context.Context, t *task) error {
				if err := t.client.Do(ctx, http.MethodPost, "/api/session/mail/test", nil, nil); err != nil {
					return err
				}
				return t.done("the mail server took the mail")
			},
		},
		{
			noun: "mail", verb: "state", short: "Show how the sending of mail goes", example: "bouncer mail state",
			run: func(ctx context.Context, t *task) error {
				return fetch(ctx, t, "/api/mail", func(s apitype.MailState) error {
					switch {
					case s.Server == "":
						return t.done("no mail is sent; start the service with mail-server and mail-from: bouncer serve -h")
					case s.Error != "":
						return t.done("%d mails went to %s, and %d failed; the last: %s", s.Sent, s.Server, s.Failed, s.Error)
					}
					return t.done("%d mails went to %s", s.Sent, s.Server)
				})
			},
		},
	}
}

func mailSetCommand() command {
	var to, topics, every, at, hours, zone string
	return command{
		noun: "mail", verb: "set", short: "Say what you want to be told of by mail, and when",
		long: `What is not given stays as it is. The topics: held (calls that you may decide), incidents,
secrets (that end soon), budgets (that are spent); all, or none.`,
		example: "bouncer mail set --to joss@skerrow.example --topics held,incidents\n" +
			"bouncer mail set --every day --at 08:00 --quiet 22:00-07:00 --zone Europe/Oslo\nbouncer mail set --topics none",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&to, "to", "", "your mail `address`; none for no mail")
			f.StringVar(&topics, "topics", "", "`list` of what to be told of: held,incidents,secrets,budgets; all, or none")
			f.StringVar(&every, "every", "", "how often: `once` for each thing at once, hour or day")
			f.StringVar(&at, "at", "", "`time` of the mail of a day, as in 08:00")
			f.StringVar(&hours, "quiet", "", "`hours` in which nothing is sent, as in 22:00-07:00; none for none")
			f.StringVar(&zone, "zone", "", "`zone` of these times, as in Europe/Oslo; UTC for none")
		},
		run: func(ctx context.Context, t *task) error {
			if len(t.given) == 0 {
				return &usageError{"nothing is to be altered", "give what is to be another one: bouncer mail set -h"}
			}
			var now apitype.MailWish
			if err := t.client.Get(ctx, "/api/session/mail", &now); err != nil {
				return err
			}
			w := now.Wish
			for _, f := range []struct {
				name, value string
				to          *string
			}{{"to", to, &w.Mail}, {"every", every, &w.Every}, {"at", at, &w.At}, {"zone", zone, &w.Zone}} {
				if t.given[f.name] {
					*f.to = strings.TrimSuffix(f.value, "none")
				}
			}
			if t.given["topics"] {
				w.Topics = topicsOf(topics)
			}
			if t.given["quiet"] {
				from, until, ok := strings.Cut(hours, "-")
				if hours == "none" {
					from, until = "", ""
				} else if !ok {
					return &usageError{"the quiet hours are two times, not " + hours, "bouncer mail set --quiet 22:00-07:00"}
				}
				w.From, w.To = strings.TrimSpace(from), strings.TrimSpace(until)
			}
			return submit(ctx, t, http.MethodPut, "/api/session/mail", w, t.view().showMailWish)
		},
	}
}

func topicsOf(text string) []quiet.Topic {
	switch text {
	case "all":
		return slices.Clone(quiet.Topics)
	case "", "none":
		return []quiet.Topic{}
	}
	var out []quiet.Topic
	for _, one := range strings.Split(text, ",") {
		out = append(out, quiet.Topic(strings.TrimSpace(one)))
	}
	return out
}

func (t view) showMailWish(w apitype.MailWish) error {
	if !w.Sends {
		fmt.Fprintln(t.Err, "no mail is sent yet: the service has no mail server; see mail-server in bouncer serve -h")
	}
	if w.Mail == "" || len(w.Topics) == 0 {
		return t.done("you are told of nothing by mail; bouncer mail set --to ADDRESS --topics all")
	}
	topics := make([]string, len(w.Topics))
	for i, topic := range w.Topics {
		topics[i] = string(topic)
	}
	when := map[string]string{quiet.AtOnce: "at once", quiet.Hourly: "once an hour", quiet.Daily: "once a day, at " + w.At}[w.Every]
	zone := w.Zone
	if zone == "" {
		zone = "UTC"
	}
	if w.From != "" {
		when += fmt.Sprintf("; not from %s to %s", w.From, w.To)
	}
	return t.done("%s is told of %s %s (%s)", w.Mail, strings.Join(topics, ", "), when, zone)
}
