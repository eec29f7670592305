package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/control/notify"
	"bouncer/internal/core/access"
	"bouncer/internal/core/quiet"
)

// mailRoutes are the rows of what people are told by mail.
func mailRoutes(svc *notify.Service) []route {
	return []route{
		{
			method: get, path: "/api/session/mail", id: "getMailWish", self: true, summary: "What you are told of by mail, and when",
			out: apitype.MailWish{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Wish(c.Context(), c.person) },
		},
		{
			method: put, path: "/api/session/mail", id: "setMailWish", self: true, summary: "Say what you want to be told of by mail, and when",
			in: quiet.Wish{}, out: apitype.MailWish{}, status: 200,
			handle: with(func(c *call, in quiet.Wish) (any, error) { return svc.SetWish(c.Context(), c.person, in) }),
		},
		{
			method: post, path: "/api/session/mail/test", id: "testMail", self: true, summary: "Send yourself a mail for a trial", status: 204,
			handle: func(c *call) (any, error) { return nil, svc.Try(c.Context(), c.person) },
		},
		{
			method: get, path: "/api/mail", id: "mailState", action: access.SeeService, summary: "How the sending of mail goes",
			out: apitype.MailState{}, status: 200,
			handle: func(*call) (any, error) { return svc.State(), nil },
		},
	}
}
