package link

import (
	"runtime"
)

// LimitsKept reports whether the limits of local processes can be kept on this
// system.
const LimitsKept = runtime.GOOS == "linux"
