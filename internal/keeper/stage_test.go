package keeper

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dravit/internal/kind"
	"dravit/internal/lifecycle"
)

// A start's stage is that of the first part that has not settled: stores, then parts that use them, then sites.
func TestStageOf(t *testing.T) {
	parts := []kind.Part{
		{Name: "web", Role: kind.RoleWeb},
		{Name: "app", Role: kind.RoleRuntime},
		{Name: "db", Role: kind.RoleDatabase},
		{Name: "bus", Role: "queue"},
	}
	const (
		starting, waiting = lifecycle.Starting, lifecycle.Waiting
		answers, failed   = lifecycle.Answers, lifecycle.Failed
		unwell, pausing   = lifecycle.Unwell, lifecycle.Pausing
	)
	for _, c := range []struct {
		name              string
		web, app, db, bus lifecycle.State
		want              lifecycle.Stage
	}{
		{"nothing yet", "", "", "", "", lifecycle.StageStores},
		{"a store starts", waiting, waiting, starting, answers, lifecycle.StageStores},
		{"a store is started again", waiting, answers, answers, pausing, lifecycle.StageStores},
		{"servers are there first", answers, answers, starting, answers, lifecycle.StageStores},
		{"stores answer", starting, waiting, answers, answers, lifecycle.StageServers},
		{"a store failed", waiting, waiting, failed, answers, lifecycle.StageServers},
		{"a store is unwell", answers, starting, unwell, answers, lifecycle.StageServers},
		{"everything answers", answers, answers, answers, answers, lifecycle.StageSites},
		{"everything has settled", failed, unwell, answers, failed, lifecycle.StageSites},
	} {
		t.Run(c.name, func(t *testing.T) {
			states := map[string]lifecycle.State{"web": c.web, "app": c.app, "db": c.db, "bus": c.bus}
			assert.Equal(t, c.want, stageOf(parts, states))
		})
	}
	assert.Equal(t, lifecycle.StageSites, stageOf(nil, nil))
}
