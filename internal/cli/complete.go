package cli

import (
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"pingo/internal/api"
)

// completions offers what the service knows: indexes, their fields, sources, tokens, keys
// of failed documents. A service that does not answer offers nothing.
func (a *App) completions(root *cobra.Command) {
	none := cobra.ShellCompDirectiveNoFileComp
	status := func(cmd *cobra.Command) *api.Status {
		s, err := a.client().Status(cmd.Context())
		if err != nil {
			return &api.Status{}
		}
		return s
	}
	indexes := func(cmd *cobra.Command) (out []string) {
		for _, ix := range status(cmd).Indexes {
			out = append(out, ix.Name)
		}
		return out
	}
	sources := func(cmd *cobra.Command, _ []string, _ string) (out []string, _ cobra.ShellCompDirective) {
		for _, src := range status(cmd).Sources {
			out = append(out, src.Name)
		}
		return out, none
	}
	// fields are those of an index that have a role.
	fields := func(has func(f *api.PlanField) bool, suffix string) cobra.CompletionFunc {
		return func(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
			plan, err := a.client().PlanInForce(cmd.Context())
			if err != nil {
				return nil, none
			}
			for _, ix := range plan.Indexes {
				for i := range ix.Fields {
					if f := &ix.Fields[i]; (len(args) == 0 || ix.Name == args[0]) && has(f) &&
						!slices.Contains(out, f.Path+suffix) {
						out = append(out, f.Path+suffix)
					}
				}
			}
			return out, none | cobra.ShellCompDirectiveNoSpace
		}
	}
	first := func(list func(cmd *cobra.Command) []string) cobra.CompletionFunc {
		return func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 {
				return nil, none
			}
			return list(cmd), none
		}
	}
	files := func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return []string{"yaml", "yml"}, cobra.ShellCompDirectiveFilterFileExt
	}
	versions := func(cmd *cobra.Command, _ []string, _ string) (out []string, _ cobra.ShellCompDirective) {
		list, err := a.client().DefinitionVersions(cmd.Context())
		if err != nil {
			return nil, none
		}
		for _, v := range list {
			out = append(out, strconv.Itoa(v.Version))
		}
		return out, none
	}
	failedKeys := func(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
		if len(args) == 0 {
			return indexes(cmd), none
		}
		list, err := a.client().Failed(cmd.Context(), args[0], "")
		if err != nil {
			return nil, none
		}
		for _, f := range list {
			out = append(out, f.Key)
		}
		return out, none
	}
	// receiving are the sources that have receipts.
	receiving := func(cmd *cobra.Command) (out []string) {
		for _, src := range status(cmd).Sources {
			if src.Receives {
				out = append(out, src.Name)
			}
		}
		return out
	}
	// receivingThen offers sources that have receipts, then the records of the one, then files.
	receivingThen := func(records bool) cobra.CompletionFunc {
		return func(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
			switch {
			case len(args) == 0:
				return receiving(cmd), none
			case records && len(args) == 1:
				held, err := a.client().HeldRecords(cmd.Context(), args[0])
				if err != nil {
					return nil, none
				}
				for _, h := range held {
					out = append(out, h.Record)
				}
				return out, none
			}
			return nil, cobra.ShellCompDirectiveDefault
		}
	}
	tables := func(cmd *cobra.Command) (out []string) {
		plan, err := a.client().PlanInForce(cmd.Context())
		if err != nil {
			return nil
		}
		for _, c := range plan.Capture {
			out = append(out, c.Tables...)
		}
		return out
	}
	for path, complete := range map[string]cobra.CompletionFunc{
		"check":             files,
		"apply":             files,
		"capture show":      files,
		"source disconnect": sources,
		"source connect":    sources,
		"search":            first(indexes),
		"preview":           first(indexes),
		"trace": func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if change, err := cmd.Flags().GetBool("change"); err == nil && change {
				return first(tables)(cmd, args, "")
			}
			return first(indexes)(cmd, args, "")
		},
		"hooks list":       first(receiving),
		"hooks show":       first(receiving),
		"hooks send":       receivingThen(false),
		"load":             receivingThen(true),
		"drift show":       first(indexes),
		"drift check":      first(indexes),
		"repair":           first(indexes),
		"expect":           first(indexes),
		"reindex rollback": first(indexes),
		"reindex compare":  first(indexes),
		"failed list":      first(indexes),
		"wait":             first(indexes),
		"reindex start":    first(indexes),
		"reindex show":     first(indexes),
		"reindex switch":   first(indexes),
		"reindex cancel":   first(indexes),
		"reindex drop":     first(indexes),
		"drop":             first(indexes),
		"definition show":  versions,
		"definition diff":  versions,
		"failed show":      failedKeys,
		"failed retry":     failedKeys,
		"failed dismiss":   failedKeys,
		"token remove": first(func(cmd *cobra.Command) (out []string) {
			list, err := a.client().Tokens(cmd.Context())
			if err != nil {
				return nil
			}
			for _, t := range list {
				out = append(out, t.Name)
			}
			return out
		}),
	} {
		find(root, path).ValidArgsFunction = complete
	}
	for _, f := range []struct {
		path, flag string
		complete   cobra.CompletionFunc
	}{
		{"capture", "source", sources}, {"trace", "source", sources},
		{"search", "filter", fields(func(f *api.PlanField) bool { return f.Filter || f.Facet }, "=")},
		{"search", "sort", fields(func(f *api.PlanField) bool { return f.Sort }, "")},
		{"search", "facet", fields(func(f *api.PlanField) bool { return f.Facet }, "")},
		{"token create", "role", cobra.FixedCompletions(api.Roles, none)},
		{"", "output", cobra.FixedCompletions([]string{"table", "json", "yaml"}, none)},
	} {
		if err := find(root, f.path).RegisterFlagCompletionFunc(f.flag, f.complete); err != nil {
			panic(err) // there is no such flag
		}
	}
}

// find is a command by its path below root.
func find(root *cobra.Command, path string) *cobra.Command {
	cmd, _, err := root.Find(strings.Fields(path))
	if err != nil {
		panic(err) // there is no such command
	}
	return cmd
}
