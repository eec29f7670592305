package stdio

import (
	"os/signal"
	"syscall"
)

func signalIgnore() { signal.Ignore(syscall.SIGTERM) }
