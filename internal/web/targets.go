package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
	"crelvo/internal/record"
	"crelvo/internal/service/targets"
	"crelvo/internal/webspace"
)

func (w *Server) addTargets() {
	const at = "/api/v1/targets"
	operate(w, "list-targets", forAdmin, http.MethodGet, at, "Places outside that versions go on to",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Target], error) {
			all, err := w.service.Targets.Targets(ctx)
			shown := make([]api.Target, len(all))
			for i, t := range all {
				shown[i] = showTarget(t)
			}
			return &answer[[]api.Target]{shown}, err
		})
	operate(w, "set-target", forAdmin, http.MethodPost, at, "Make a target, or write it anew",
		func(ctx context.Context, v visit, in *answer[api.NewTarget]) (*none, error) {
			return nil, w.service.Targets.SetTarget(ctx, v.caller, targets.NewTarget(in.Body))
		})
	operate(w, "check-target", forAdmin, http.MethodPost, at+"/{target}/check",
		"Try a target; in a tree, find what is not as it was written, and have it written again",
		func(ctx context.Context, v visit, in *targetNamed) (*answer[api.CheckedTarget], error) {
			c, err := w.service.Targets.Check(record.Patiently(ctx), v.caller, in.Target)
			return &answer[api.CheckedTarget]{api.CheckedTarget{Files: c.Files, Missing: c.MissingN, Other: c.OtherN,
				MissingFiles: append([]string{}, c.Missing...), OtherFiles: append([]string{}, c.Other...)}}, err
		})
	operate(w, "remove-target", forAdmin, http.MethodDelete, at+"/{target}", "Remove a target",
		func(ctx context.Context, v visit, in *targetNamed) (*none, error) {
			return nil, w.service.Targets.RemoveTarget(ctx, v.caller, in.Target)
		})
}

type targetNamed struct {
	Target string `path:"target" maxLength:"63"`
}

func showTarget(t targets.View) api.Target {
	shown := api.Target{Name: t.Name, Ecosystem: t.Ecosystem, URL: t.URL, HasSecret: t.Secret != nil, By: t.ByName,
		At: t.At.UTC()}
	if !t.Plain {
		return shown
	}
	kind, err := webspace.Kind(t.URL)
	if err != nil {
		kind = "" // it was written by a later program
	}
	shown.Tree = &api.TargetTree{Kind: kind, ReadAt: t.ReadAt, HostKey: t.HostKey, Packages: t.State.Packages,
		Waiting: t.State.Due, Files: t.State.Files, Bytes: t.State.Bytes, WroteAt: utc(t.WroteAt), Failure: t.Failure}
	if t.Attempts > 0 {
		next := t.NextAt.UTC()
		shown.Tree.NextAt = &next
	}
	return shown
}
