package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/report"
	"bouncer/internal/diagnose/monitor"
)

// checkupRoutes are the rows of checkups.
func checkupRoutes(svc *monitor.Service) []route {
	return []route{
		{
			method: post, path: "/api/checkups", id: "checkUp", action: access.KeepServers,
			summary: "Look at a server, registered or only described, and name the causes of what is wrong; nothing is kept but the report",
			in:      apitype.CheckupAsk{}, out: report.Report{}, status: 200,
			handle: with(func(c *call, in apitype.CheckupAsk) (any, error) {
				defer svc.Done(in.Watch)
				return svc.Check(c.Context(), c.person, in)
			}),
		},
		{
			method: get, path: "/api/checkups/{name}", id: "getCheckupProgress", action: access.KeepServers,
			summary: "What a checkup that is under way is doing, by the word in watch",
			out:     apitype.Progress{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Progress(c.name("name")), nil },
		},
		{
			method: get, path: "/api/servers/{name}/checkup", id: "getCheckup", action: access.KeepServers,
			summary: "The report of the last checkup of a server",
			out:     report.Report{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Last(c.Context(), c.name("name")) },
		},
	}
}
