package cli

import (
	"context"
	"flag"
	"io"
	"net/http"
	"slices"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

// Names gives the names of a kind that there are, for the completion of a shell: of things of the service at the usual data
// folder, and of closed sets. It gives none when the service can't be asked.
func Names(ctx context.Context, _ command.Env, kind string) []string {
	switch kind {
	case "right":
		return append(keep.Full.Names(), "full", "add-only", "read-only", "drop-only", "none")
	case "action":
		return textsOf(keep.Actions)
	case "reason":
		return textsOf(keep.Reasons)
	case "outcome":
		return textsOf(keep.Outcomes)
	case "protocol":
		return []string{"ftp", "ftps", "sftp"}
	case "role":
		return []string{"owner", "manager", "auditor"}
	}
	at := map[string]struct{ path, field string }{"account": {"/accounts?limit=1000", "name"}, "group": {"/groups?limit=1000", "name"}, "listener": {"/listeners", "name"}, "store": {"/stores", "name"},
		"operator": {"/operators", "operator"}, "report": {"/reports", "name"}}[kind]
	if at.path == "" {
		return nil
	}
	flags := flag.NewFlagSet("names", flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	c, err := commonFlags(flags).client()
	if err != nil {
		return nil
	}
	var page api.Page[map[string]any]
	if c.call(ctx, http.MethodGet, at.path, nil, &page) != nil {
		return nil
	}
	var found []string
	for _, item := range page.Items {
		if name, ok := item[at.field].(string); ok && !slices.Contains(found, name) {
			found = append(found, name)
		}
	}
	return found
}

func textsOf[T ~string](list []T) (texts []string) {
	for _, one := range list {
		texts = append(texts, string(one))
	}
	return texts
}
