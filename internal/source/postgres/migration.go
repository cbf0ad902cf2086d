package postgres

import (
	"context"
	"errors"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/core/shape"
	"pingo/internal/pgsession"
	"pingo/internal/source"
)

// A migration that is tried waits for no one, and no one waits long for it.
const tryingSettings = `SET LOCAL lock_timeout = '1s'; SET LOCAL statement_timeout = '10s'; SET LOCAL search_path = "$user", public`

// FactsAfter is Facts as a migration will make them, in a transaction that is rolled back. Statements that change rows are left out,
// since only the structure matters here. What they would have made true, such as that no value is missing, is taken as true.
func (p *Reader) FactsAfter(
	ctx context.Context, migration string, tables []string, expressions []shape.Expression,
) (facts shape.Facts, err error) {
	tx, err := p.pool.BeginTx(ctx, pgx.TxOptions{})
	if err != nil {
		return facts, explain(err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	if _, err := tx.Exec(ctx, tryingSettings, pgx.QueryExecModeSimpleProtocol); err != nil {
		return facts, explain(err)
	}
	skipped := false
	for _, step := range splitMigration(migration) {
		switch kindOf(step.text) {
		case structural:
			if err := try(ctx, tx, step, skipped); err != nil {
				return facts, err
			}
		case forbidden:
			return facts, &source.MigrationError{Line: step.line, Reason: "a migration that is tried cannot control transactions: leave this statement out"}
		case data:
			skipped = true
		}
	}
	if _, err := tx.Exec(ctx, "SET LOCAL search_path = "+pgsession.Path); err != nil {
		return facts, explain(err)
	}
	return p.facts(ctx, tx, tables, expressions)
}

// try runs a statement of a migration.
func try(ctx context.Context, tx pgx.Tx, s migrationStep, skipped bool) error {
	point, err := tx.Begin(ctx)
	if err != nil {
		return explain(err)
	}
	// No index can be built or dropped concurrently in a transaction.
	if _, err = point.Exec(ctx, concurrently.ReplaceAllString(s.text, "$1 ")); err == nil {
		return point.Commit(ctx)
	}
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		return explain(err)
	}
	if err := point.Rollback(ctx); err != nil {
		return explain(err)
	}
	if skipped && strings.HasPrefix(pg.Code, "23") { // the rows are not as the migration makes them first
		return nil
	}
	reason := pg.Message
	if pg.Code == "42501" {
		reason += ". Pingo's role may not run this migration: check against a copy of the database, with a URL of the tables' owner"
	}
	return &source.MigrationError{Line: s.line, Reason: reason}
}

var concurrently = regexp.MustCompile(`(?i)^((?:CREATE\s+(?:UNIQUE\s+)?|DROP\s+)INDEX)\s+CONCURRENTLY\s`)

// migrationStep is one statement of a migration; its line counts from 1.
type migrationStep struct {
	text string
	line int
}

// splitMigration splits SQL at the semicolons that are outside of texts, names, bodies and comments. See "Lexical Structure" in
// PostgreSQL's manual.
func splitMigration(sql string) (out []migrationStep) {
	begin, line, beginLine, empty := 0, 1, 1, true
	end := func(at int) {
		if !empty {
			out = append(out, migrationStep{strings.TrimSpace(sql[begin:at]), beginLine})
		}
		begin, empty = at+1, true
	}
	for i := 0; i < len(sql); {
		width := lexeme(sql[i:])
		comment := strings.HasPrefix(sql[i:], "--") || strings.HasPrefix(sql[i:], "/*")
		switch {
		case sql[i] == ';':
			end(i)
		case empty && !comment && strings.TrimSpace(sql[i:i+width]) != "":
			empty, begin, beginLine = false, i, line
		}
		line += strings.Count(sql[i:i+width], "\n")
		i += width
	}
	end(len(sql))
	return out
}

// lexeme is the length of what SQL begins with: a comment, a text, a name in quotes, a body in dollars, or one character.
func lexeme(sql string) int {
	until := func(from int, closing string) int {
		if at := strings.Index(sql[from:], closing); at >= 0 {
			return from + at + len(closing)
		}
		return len(sql)
	}
	switch {
	case strings.HasPrefix(sql, "--"):
		return until(2, "\n")
	case strings.HasPrefix(sql, "/*"):
		depth := 0
		for i := 0; i+1 < len(sql); i++ {
			switch sql[i : i+2] {
			case "/*":
				depth, i = depth+1, i+1
			case "*/":
				if depth, i = depth-1, i+1; depth == 0 {
					return i + 1
				}
			}
		}
		return len(sql)
	case strings.HasPrefix(sql, "E'"), strings.HasPrefix(sql, "e'"):
		for i := 2; i < len(sql); i++ {
			if sql[i] == '\\' {
				i++
			} else if sql[i] == '\'' {
				return i + 1
			}
		}
		return len(sql)
	case sql[0] == '\'':
		return until(1, "'")
	case sql[0] == '"':
		return until(1, `"`)
	case sql[0] == '$':
		tag := 1
		for tag < len(sql) && (sql[tag] == '_' || sql[tag] >= 0x80 || isLetter(sql[tag]) || tag > 1 && isDigit(sql[tag])) {
			tag++
		}
		if tag < len(sql) && sql[tag] == '$' {
			return until(tag+1, sql[:tag+1])
		}
	case isLetter(sql[0]) || sql[0] == '_' || sql[0] >= 0x80: // a word, whose $ and E begin nothing
		i := 1
		for i < len(sql) && (isLetter(sql[i]) || isDigit(sql[i]) || sql[i] == '_' || sql[i] == '$' || sql[i] >= 0x80) {
			i++
		}
		return i
	}
	return 1
}

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }
func isDigit(c byte) bool  { return c >= '0' && c <= '9' }

type statementKind int

const (
	structural statementKind = iota
	data                     // changes rows or runs code
	boundary                 // begins or ends the transaction of a migration
	forbidden
)

// kindOf tells what a statement does by its first word.
func kindOf(statement string) statementKind {
	for strings.HasPrefix(statement, "--") || strings.HasPrefix(statement, "/*") {
		statement = strings.TrimSpace(statement[lexeme(statement):])
	}
	words := strings.Fields(strings.ToUpper(statement))
	if len(words) == 0 {
		return boundary
	}
	switch strings.TrimRight(words[0], ";") {
	case "CREATE", "ALTER", "DROP", "COMMENT", "GRANT", "REVOKE":
		return structural
	case "SET":
		if slices.Contains(words[1:min(len(words), 3)], "SEARCH_PATH") {
			return structural
		}
	case "BEGIN", "COMMIT", "START", "END":
		return boundary
	case "ROLLBACK", "ABORT", "SAVEPOINT", "RELEASE", "PREPARE":
		return forbidden
	}
	return data
}
