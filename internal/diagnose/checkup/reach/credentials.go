package reach

import (
	"context"

	"bouncer/internal/core/refusal"

	"bouncer/internal/core/evidence"
	"bouncer/internal/core/team"
)

// credentials looks closer at a credential, or its absence, that was turned away: without
// it, cleaned, in other forms; and step by step at OAuth.
func (h *web) credentials(ctx context.Context, x *evidence.Exchange) {
	address := h.Target.Server.URL
	h.Tell("authorization", "looking closer at the credential")
	if len(h.forms) == 0 {
		if x.Status == 403 {
			h.host(ctx)
		}
		if h.Target.Server.Transport != team.REST {
			grants{h}.oauth(ctx, x)
		}
		return
	}
	h.initializeWith(ctx, evidence.WithoutCredential, address, nil, evidence.Form{})
	placeholder := false
	for i, a := range h.forms {
		placeholder = placeholder || i < len(h.Evidence.Credentials) && h.Evidence.Credentials[i].Placeholder != ""
		bare, ok := cleaned(a)
		if !ok || a.Query != "" {
			continue
		}
		forms := append(append([]attached{}, h.forms[:i]...), bare)
		forms = append(forms, h.forms[i+1:]...)
		if h.initializeWith(ctx, evidence.Cleaned, address, forms, bare.Form).Opened {
			return
		}
	}
	if h.Target.Server.SignIn != nil || h.Target.Client != nil {
		grants{h}.oauth(ctx, x)
		return
	}
	if placeholder || len(h.forms) != 1 || h.forms[0].sign != nil || h.forms[0].Query != "" {
		return
	}
	if x.Status == 403 || refusal.Says(x) {
		h.host(ctx)
		if refusal.Says(x) {
			return // the server says itself what it is about
		}
	}
	for _, other := range others(h.forms[0], refusal.HeaderWanted(x)) {
		if ctx.Err() != nil || h.initializeWith(ctx, evidence.OtherHeader, address, []attached{other}, other.Form).Opened {
			return
		}
	}
}

// initializeWith asks for a conversation with other credentials.
func (h *web) initializeWith(
	ctx context.Context,
	purpose evidence.Purpose,
	address string,
	forms []attached,
	form evidence.Form,
) evidence.Exchange {
	q := h.initialize(purpose, address, forms)
	q.form, q.limit = form, min(probeTime, h.Options.Patience)
	x, raw := h.send(ctx, q)
	h.opens(&x, raw)
	h.keep(x)
	if x.Opened {
		h.farewell(ctx, address, x, forms)
	}
	return x
}
