package cli

import (
	"context"
	"errors"

	"metabasis/internal/workspace"
)

func (a *app) watch(ctx context.Context, ws *workspace.Workspace, n *workspace.Night) error {
	return errors.New("not yet")
}

func (a *app) open(ctx context.Context) error { return errors.New("not yet") }
