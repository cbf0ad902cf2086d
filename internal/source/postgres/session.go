package postgres

import (
	"context"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
)

// rollback ends every transaction that reads rows. Reading them may run code of others: functions of views and of
// expressions, and operators of types. A read-only transaction keeps that code from writing, and a rollback undoes the
// settings that it may have changed in Pingo's session, such as the search path.
const rollback = "ROLLBACK"

// begin lists the statements that begin a transaction that reads rows, at an isolation level or, if empty, the default.
func (db *database) begin(level string) []string {
	out := []string{strings.TrimSpace("BEGIN READ ONLY " + level)}
	if db.reader != "" {
		out = append(out, "SET LOCAL ROLE "+quoteName(db.reader))
	}
	return out
}

// reading runs f in a transaction that reads rows.
func (db *database) reading(ctx context.Context, f func(tx pgx.Tx) error) error {
	tx, err := db.Pool.BeginTx(ctx, pgx.TxOptions{AccessMode: pgx.ReadOnly})
	if err != nil {
		return err
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	if err := db.asReader(ctx, tx); err != nil {
		return err
	}
	return f(tx)
}

// asReader gives up the rights of Pingo's role for those of the reader, until the transaction ends.
func (db *database) asReader(ctx context.Context, tx pgx.Tx) error {
	if db.reader == "" {
		return nil
	}
	_, err := tx.Exec(ctx, "SET LOCAL ROLE "+quoteName(db.reader))
	return err
}

// builtIn are the names that format_type gives to types of the server itself, without the part in parentheses.
var builtIn = strings.Split(`boolean,bytea,"char",bigint,smallint,integer,regproc,text,oid,tid,xid,cid,json,xml,xid8,path,polygon,`+
	`real,double precision,circle,money,macaddr,inet,cidr,macaddr8,character,character varying,bpchar,date,time,timestamp,`+
	`time without time zone,timestamp without time zone,timestamp with time zone,interval,time with time zone,bit,bit varying,`+
	`numeric,regprocedure,regoper,regoperator,regclass,regcollation,regtype,regrole,regnamespace,uuid,pg_lsn,tsvector,tsquery,`+
	`regconfig,regdictionary,jsonb,jsonpath,txid_snapshot,pg_snapshot,int4range,numrange,tsrange,tstzrange,daterange,int8range,`+
	`int4multirange,nummultirange,tsmultirange,tstzmultirange,datemultirange,int8multirange,name,box,point,line,lseg`, ",")

var parenthesised = regexp.MustCompile(`\([^()]*\)`)

// typeName names a type in SQL: one that stands without a schema, and that the server did not bring, is in public.
func typeName(native string) string {
	bare := parenthesised.ReplaceAllString(strings.TrimRight(native, "[]"), "")
	inSchema := strings.Contains(bare, ".")
	if strings.HasPrefix(bare, `"`) { // a point may be in the name
		inSchema = strings.Contains(bare, `".`)
	}
	if inSchema || slices.Contains(builtIn, bare) {
		return native
	}
	return "public." + native
}
