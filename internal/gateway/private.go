package gateway

import (
	"fmt"
	"net"
	"net/http"
	"os/user"

	"dravit/internal/proc"
)

// Sites are for whoever visits them. The gateway's own pages and the inboxes of mail catchers tell of this user's work,
// so they are for this user's processes only: the gateway listens where every user of the machine can connect.

// private reports whether a request comes from a process of this user.
func (t *table) private(r *http.Request) bool {
	if t.own != nil {
		return t.own(r)
	}
	here, _ := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	there, err := net.ResolveTCPAddr("tcp", r.RemoteAddr)
	return err == nil && proc.SameUser(here, there)
}

// refuse tells a visitor who is another user of this machine that a page is not his.
func refuse(w http.ResponseWriter, status int) {
	name := "the user who started Dravit"
	if me, err := user.Current(); err == nil {
		name = me.Username
	}
	http.Error(
		w,
		fmt.Sprintf("%d: this page is for %s only, and this request comes from another user's process", status, name),
		status,
	)
}
