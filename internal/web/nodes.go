package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
	"crelvo/internal/service/nodes"
)

func (w *Server) addNodes() {
	const path = "/api/v1/nodes"
	operate(w, "list-nodes", forAdmin, http.MethodGet, path, "The programs that serve together",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Node], error) {
			all, err := w.service.Nodes.Nodes(ctx, v.caller)
			shown := make([]api.Node, len(all))
			for i, n := range all {
				shown[i] = showNode(n)
			}
			return &answer[[]api.Node]{shown}, err
		})
	operate(w, "edit-node", forAdmin, http.MethodPatch, path+"/{node}", "Have a node be left alone, or not any more",
		func(ctx context.Context, v visit, in *struct {
			Node string `path:"node" maxLength:"200" doc:"its name, its address, or the beginning of its id"`
			Body api.NodeChange
		}) (*answer[api.Node], error) {
			n, err := w.service.Nodes.Drain(ctx, v.caller, in.Node, in.Body.Draining)
			return &answer[api.Node]{showNode(n)}, err
		})
}

func showNode(n nodes.View) api.Node {
	state := "serving"
	switch {
	case n.Lost:
		state = "lost"
	// The one that answers this has a request that does not count.
	case n.Draining && (n.Requests == 0 || n.Here && n.Requests == 1) && len(n.Doing) == 0:
		state = "drained"
	case n.Draining:
		state = "draining"
	}
	return api.Node{ID: n.ID, Name: n.Name, Address: n.Address, Version: n.Version, Since: n.StartedAt.UTC(),
		SeenAt: n.SeenAt.UTC(), State: state, Here: n.Here, Requests: n.Requests, Answered: n.Answered, Memory: n.Memory,
		Doing: append([]string{}, n.Doing...)}
}
