package notify_test

import (
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/mailbox"
)

type obj = testkit.Obj

func open(t *testing.T) (*mailbox.Mailbox, string) {
	b := &mailbox.Mailbox{}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan error, 1)
	go func() { done <- b.Serve(l) }()
	t.Cleanup(func() {
		_ = l.Close()
		assert.NoError(t, <-done)
	})
	return b, "smtp://" + l.Addr().String()
}

func await(t *testing.T, b *mailbox.Mailbox, n int) []mailbox.Mail {
	t.Helper()
	require.Eventually(t, func() bool { return len(b.Mails()) >= n }, 20*time.Second, 5*time.Millisecond)
	return b.Mails()
}

// People are told of what they want to be told of, may know, and can do something about.
func TestPeopleAreToldByMail(t *testing.T) {
	t.Parallel()
	b, server := open(t)
	w := testkit.Start(t, map[string]string{"mail-server": server, "mail-from": "bouncer@skerrow.example"})
	w.Register("echo", testkit.Upstream(t, testkit.Echo("skf-4hg2Lq9vPz7Wm1Tx", nil)), "skf-4hg2Lq9vPz7Wm1Tx")
	w.Person("joss", "Joss Penhale", team.Maintainer)
	w.Person("ottilie", "Ottilie Brandt", team.Member)
	set := func(name string, wish obj) {
		token := w.Token
		if name != "marit" {
			token = w.SignIn(name, testkit.Password)
		}
		w.MustAs(token, "PUT", "/api/session/mail", wish, nil)
	}
	everything := []string{"held", "incidents", "secrets", "budgets"}
	set("joss", obj{"mail": "joss@skerrow.example", "topics": everything})
	set("ottilie", obj{"mail": "ottilie@skerrow.example", "topics": everything})
	set("marit", obj{"mail": "marit@skerrow.example", "topics": []string{"budgets"}})

	w.Must("POST", "/api/rules", obj{"name": "look", "effect": "hold", "agent": "*", "server": "*", "tool": "*", "deciders": []string{"person:joss"}}, nil)
	agent := w.Raw("/mcp", w.Agent("night-watch"), "2025-11-25")
	told := make(chan testkit.Reply, 1)
	go func() {
		told <- agent.CallTool("echo__echo", "the key is skf-4hg2Lq9vPz7Wm1Tx "+strings.Repeat("tide ", 9_000))
	}()
	mails := await(t, b, 1)
	assert.Equal(t, []string{"bouncer@skerrow.example", "joss@skerrow.example"}, []string{mails[0].From, mails[0].To})
	assert.Equal(t, "Bouncer: echo of echo waits for a decision", mails[0].Subject)
	assert.Contains(t, mails[0].Text, w.Base+"/held")
	assert.NotContains(t, mails[0].Text, "skf-4hg2")
	assert.Contains(t, mails[0].Text, "there is more")
	assert.Less(t, len(mails[0].Text), 4_000)
	assert.Equal(t, "auto-generated", mails[0].Header.Get("Auto-Submitted"))
	var waiting []apitype.HeldCall
	w.MustAs(w.SignIn("joss", testkit.Password), "GET", "/api/held?waiting=true", nil, &waiting)
	w.MustAs(w.SignIn("joss", testkit.Password), "POST", "/api/held/"+waiting[0].ID+"/decision", obj{"how": "once"}, nil)
	<-told

	// Of a budget those are told who see the agent, once for its window.
	w.Must("DELETE", "/api/rules/look", nil, nil)
	w.Rule("admit", "*", "*", "*")
	w.Must("POST", "/api/budgets", obj{"name": "day", "agent": "*", "server": "*", "tool": "*", "per": "agent", "window": "day", "calls": 1}, nil)
	for range 4 {
		agent.CallTool("echo__echo", "x")
	}
	mails = await(t, b, 3)
	to := map[string]string{}
	for _, m := range mails[1:] {
		to[m.To] = m.Subject
	}
	assert.Equal(t, map[string]string{
		"joss@skerrow.example": "Bouncer: budget day is spent by night-watch", "marit@skerrow.example": "Bouncer: budget day is spent by night-watch",
	}, to, "not a member, whose agent it is not")
	assert.Len(t, b.Mails(), 3)

	// A trial, and what goes wrong with one.
	w.Must("POST", "/api/session/mail/test", nil, nil)
	assert.Contains(t, await(t, b, 4)[3].Subject, "trial")
	assert.Equal(t, 429, w.Problem("POST", "/api/session/mail/test", nil).Status, "one after the other, whoever gets them")
	w.Clock.Forward(time.Minute)
	b.Fail("550 nobody of that name")
	p := w.Problem("POST", "/api/session/mail/test", nil)
	assert.Contains(t, p.Title, "nobody of that name")
	var state apitype.MailState
	w.Must("GET", "/api/mail", nil, &state)
	assert.Equal(t, []any{4, 1}, []any{state.Sent, state.Failed})
	assert.Equal(t, "mail", w.Problem("PUT", "/api/session/mail", obj{"mail": "nobody"}).Field)
}
