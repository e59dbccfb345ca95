package gateway

import (
	"fmt"
	"net"
	"net/http"

	"dravit/internal/account"
	"dravit/internal/proc"
)

// Anyone on this machine may visit sites. The gateway's own pages and the inboxes of mail catchers show this user's
// work. They answer this user's processes only, since every user of the machine can connect to the gateway.

// private reports whether a request comes from a process of this user.
func (t *table) private(r *http.Request) bool {
	if t.own != nil {
		return t.own(r)
	}
	here, _ := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	there, err := net.ResolveTCPAddr("tcp", r.RemoteAddr)
	return err == nil && proc.SameUser(here, there)
}

// refuse answers another user of this machine that the page is not for them.
func refuse(w http.ResponseWriter, status int) {
	name := account.Current().Username
	http.Error(
		w,
		fmt.Sprintf("%d: this page is for %s only, and this request comes from another user's process", status, name),
		status,
	)
}
