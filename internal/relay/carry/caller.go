package carry

import "bouncer/internal/relay/caller"

// Caller is who asks, and how the answer has to look.
type Caller = caller.Caller

// Principal is who makes a request, and at which address.
type Principal = caller.Principal
