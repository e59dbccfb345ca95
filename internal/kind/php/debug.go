package php

import (
	"fmt"

	"dravit/internal/kind"
)

// debugger is the extension that "debugger = true" loads.
const debugger = "xdebug"

// debugging sets the debugger up to connect to the editor, which listens, if a request asks for it (xdebug.org, "all
// settings").
func debugging(p kind.Part) map[string]string {
	return map[string]string{
		"xdebug.mode": "debug", "xdebug.start_with_request": "trigger", "xdebug.client_host": kind.Host,
		"xdebug.client_port":          fmt.Sprint(p.Debug),
		"xdebug.discover_client_host": "0", "xdebug.log_level": "0", "xdebug.connect_timeout_ms": "200",
	}
}
