package api

import (
	"bouncer/internal/apitype"
	"bouncer/internal/control/review"
	"bouncer/internal/core/access"
)

// reviewRoutes are the rows of reviews.
func reviewRoutes(svc *review.Service) []route {
	return []route{
		{
			method: get, path: "/api/reviews", id: "listReviews", action: access.SeeServers,
			summary: "How the tool lists of servers are reviewed, with what waits for a review",
			out:     []apitype.ServerReview{}, status: 200,
			handle: func(c *call) (any, error) { return svc.List(c.Context()) },
		},
		{
			method: put, path: "/api/servers/{name}/review", id: "setReviewMode", action: access.KeepServers,
			summary: "Set how a server's tool list is reviewed; it is in force at once",
			in:      apitype.ReviewMode{}, out: apitype.ServerReview{}, status: 200,
			handle: with(func(c *call, in apitype.ReviewMode) (any, error) {
				return svc.SetMode(c.Context(), c.person, c.name("name"), in)
			}),
		},
		{
			method: post, path: "/api/servers/{name}/review", id: "acceptTools", action: access.KeepServers,
			summary: "Accept tools of a server as it lists them now",
			in:      apitype.ReviewAccept{}, out: apitype.ServerReview{}, status: 200,
			handle: with(func(c *call, in apitype.ReviewAccept) (any, error) {
				return svc.Accept(c.Context(), c.person, c.name("name"), in)
			}),
		},
	}
}
