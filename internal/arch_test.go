package internal

import (
	"encoding/json"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// arrows says what the packages below a folder may import of ours, themselves aside. The
// longest folder that fits counts.
var arrows = map[string][]string{
	"internal/core":               {"internal/core"},
	"internal/pgerror":            {"internal/outgoing", "internal/pgsession"},
	"internal/pgsession":          {},
	"internal/outgoing":           {},
	"internal/api":                {},
	"internal/source":             {"internal/outgoing", "internal/core"},
	"internal/source/journal":     {"internal/core"},
	"internal/source/dialect":     {"internal/core", "internal/source"},
	"internal/source/coalesce":    {"internal/core"},
	"internal/source/postgres":    {"internal/core", "internal/source", "internal/source/journal", "internal/source/coalesce", "internal/source/dialect", "internal/pgerror", "internal/pgsession"},
	"internal/source/mariadb":     {"internal/outgoing", "internal/core", "internal/source", "internal/source/journal", "internal/source/coalesce", "internal/source/dialect"},
	"internal/source/webfeed":     {"internal/outgoing", "internal/core", "internal/source", "internal/source/intake"},
	"internal/source/poll":        {"internal/core", "internal/source", "internal/source/dialect", "internal/source/intake"},
	"internal/source/outbox":      {"internal/core", "internal/source", "internal/source/journal", "internal/source/dialect", "internal/source/intake"},
	"internal/source/intake":      {"internal/core", "internal/source", "internal/source/postgres", "internal/pgerror", "internal/pgsession"},
	"internal/source/webhook":     {"internal/outgoing", "internal/core", "internal/source", "internal/source/intake"},
	"internal/engine":             {"internal/outgoing", "internal/core"},
	"internal/engine/opensearch":  {"internal/core", "internal/engine"},
	"internal/engine/fields":      {"internal/core"},
	"internal/engine/collections": {"internal/core", "internal/engine", "internal/engine/fields"},
	"internal/engine/tasks":       {"internal/core", "internal/engine", "internal/engine/fields"},
	"internal/engine/postgres":    {"internal/core", "internal/engine", "internal/pgerror", "internal/pgsession"},
	"internal/kinds": {
		"internal/core",
		"internal/source",
		"internal/engine",
		"internal/source/postgres",
		"internal/source/mariadb",
		"internal/source/outbox",
		"internal/source/poll",
		"internal/source/webfeed",
		"internal/source/webhook",
		"internal/engine/collections",
		"internal/engine/opensearch",
		"internal/engine/postgres",
		"internal/engine/tasks",
	},
	"internal/records": {"internal/core", "internal/pgerror", "internal/pgsession"},
	"internal/flow": {
		"internal/outgoing",
		"internal/core",
		"internal/api",
		"internal/records",
		"internal/source",
		"internal/engine",
		"internal/flow",
	},
	"internal/server":   {"internal/core/stats", "internal/api", "internal/flow", "internal/records", "internal/kinds", "internal/source"},
	"internal/client":   {"internal/api"},
	"internal/cli":      {"internal/api", "internal/client"},
	"internal/pgserver": {},
	"internal/programs": {
		"internal/outgoing",
		"internal/cli",
		"internal/server",
		"internal/records",
		"internal/kinds",
		"internal/pgserver",
		"internal/lab",
		"console",
	},
	"internal/manual":            {}, // tests alone
	"internal/source/sourcetest": {"internal/core", "internal/source"},
	"internal/engine/enginetest": {"internal/core", "internal/engine"},
	"internal/lab":               {"internal", "console"},
	"bench":                      {"internal"},
	"cmd":                        {"internal/cli", "internal/programs"},
	"console":                    {},
}

// exact are folders that are meant alone, without those below them: ports, not their kinds.
var exact = []string{"internal/source", "internal/engine"}

func within(path, folder string) bool {
	if slices.Contains(exact, folder) {
		return path == folder
	}
	return path == folder || strings.HasPrefix(path, folder+"/")
}

// Dependencies point one way.
func TestArrowsPointOneWay(t *testing.T) {
	for pkg, imports := range importsOf(t) {
		folder := ""
		for f := range arrows {
			if (pkg == f || strings.HasPrefix(pkg, f+"/")) && len(f) > len(folder) {
				folder = f
			}
		}
		if pkg == "internal" {
			continue // this test
		}
		if folder == "" {
			t.Errorf("%s is in no folder that the test knows", pkg)
			continue
		}
		for _, imported := range imports {
			if !slices.ContainsFunc(arrows[folder], func(f string) bool { return within(imported, f) }) {
				t.Errorf("%s imports %s", pkg, imported)
			}
		}
	}
}

// importsOf lists for each of our packages what it imports of ours.
func importsOf(t *testing.T) map[string][]string {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "pingo/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	all := map[string][]string{}
	for decoder := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := decoder.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		name := strings.TrimPrefix(p.ImportPath, "pingo/")
		all[name] = nil
		for _, i := range p.Imports {
			if ours, ok := strings.CutPrefix(i, "pingo/"); ok {
				all[name] = append(all[name], ours)
			}
		}
	}
	if len(all) < 30 {
		t.Fatalf("only %d packages were found", len(all))
	}
	return all
}

// The words of one database, search server or kind stay in its folder.
func TestNeutralRoomsNameNoProduct(t *testing.T) {
	for _, room := range []string{"core", "flow", "source/source.go", "engine/engine.go", "api", "client"} {
		goFiles(t, room, func(path, text string) {
			for _, word := range []string{"PostgreSQL", "postgres", "opensearch", "OpenSearch", "MariaDB", "pgx", "::text", "ALTER TABLE", "_exception", `"public"`, `"uuid"`} {
				if strings.Contains(text, word) {
					t.Errorf("%s names %s", path, word)
				}
			}
		})
	}
}

const (
	mostFields  = 16
	mostMethods = 20
)

// No type of the flow is more than a person can hold in the head.
func TestTypesOfTheFlowAreSmall(t *testing.T) {
	methods := map[string]int{}
	goFiles(t, "flow", func(path, text string) {
		file, err := parser.ParseFile(token.NewFileSet(), path, text, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.TypeSpec:
				if s, is := n.Type.(*ast.StructType); is {
					fields := 0
					for _, f := range s.Fields.List {
						fields += max(1, len(f.Names))
					}
					if fields > mostFields {
						t.Errorf("%s: %s has %d fields", path, n.Name.Name, fields)
					}
				}
			case *ast.FuncDecl:
				if n.Recv != nil {
					of := n.Recv.List[0].Type
					if star, is := of.(*ast.StarExpr); is {
						of = star.X
					}
					methods[filepath.Dir(path)+" "+of.(*ast.Ident).Name]++
				}
			}
			return true
		})
	})
	for name, n := range methods {
		if n > mostMethods {
			t.Errorf("%s has %d methods", name, n)
		}
	}
}

// goFiles calls each for the code below a folder, or for one file; tests are left out.
func goFiles(t *testing.T, root string, each func(path, text string)) {
	t.Helper()
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		out, err := os.ReadFile(path)
		each(path, string(out))
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}
