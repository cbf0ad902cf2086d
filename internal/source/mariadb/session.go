package mariadb

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"database/sql/driver"
	"errors"
	"fmt"
	"math/big"
	"net"
	"sync"
	"syscall"

	"github.com/go-sql-driver/mysql"

	"pingo/internal/outgoing"
)

// nobodysKey names a public key whose private key does not exist. Without TLS, a server may ask for the password encrypted
// with a key of its own, so a program in between could learn it. With this key it learns nothing, and the sign-in fails.
var nobodysKey = sync.OnceValue(func() string {
	n := make([]byte, 256)
	rand.Read(n)
	n[0], n[255] = n[0]|0x80, n[255]|1
	const name = "pingo has no key of a server"
	mysql.RegisterServerPubKey(name, &rsa.PublicKey{N: new(big.Int).SetBytes(n), E: 65537})
	return name
})

// session is what a session is set to last, and must report then: in another character set than that of the text that
// is sent, the quotes of a literal may be parts of letters.
const (
	setNames = "SET NAMES utf8mb4 COLLATE utf8mb4_general_ci"
	session  = "SELECT concat_ws(' ', @@character_set_client, @@character_set_connection, @@character_set_results, @@sql_mode LIKE '%NO_BACKSLASH_ESCAPES%')"
)

// verified makes connections whose character set is known. A server may be told to ignore the one that clients ask for,
// and to run statements when they connect.
type verified struct{ driver.Connector }

// Connect is that of the connector.
func (v *verified) Connect(ctx context.Context) (driver.Conn, error) {
	var m *meter
	made, err := v.Connector.Connect(context.WithValue(ctx, meterKey{}, &m))
	if err != nil {
		return nil, err
	}
	if err := verify(ctx, made); err != nil {
		made.Close()
		return nil, err
	}
	return &conn{made.(mysqlConn), m}, nil
}

func verify(ctx context.Context, made driver.Conn) error {
	if _, err := made.(driver.ExecerContext).ExecContext(ctx, setNames, nil); err != nil {
		return err
	}
	rows, err := made.(driver.QueryerContext).QueryContext(ctx, session, nil)
	if err != nil {
		return err
	}
	defer rows.Close()
	values := make([]driver.Value, 1)
	if err := rows.Next(values); err != nil {
		return err
	}
	if is := fmt.Sprintf("%s", values[0]); is != "utf8mb4 utf8mb4 utf8mb4 0" {
		return fmt.Errorf("MariaDB does not let Pingo's session use the character set utf8mb4 (it uses %.100s): check init_connect and character_set_client_handshake", is)
	}
	return nil
}

// errEndless ends a connection whose server sends a value that never ends.
var errEndless = fmt.Errorf("MariaDB sent a row of more than %d MB, which Pingo does not read", longestRow>>20)

// longestRow is how many bytes a server may send between two rows, or between a request and its first row.
const longestRow = 64 << 20

// meter is a network connection that fails once its server has sent longestRow bytes without completing a row. It counts
// the bytes of the network, so a connection with TLS is bounded as well.
type meter struct {
	net.Conn
	// unread is what has arrived since the last request or row. One goroutine at a time uses a connection.
	unread int
}

// Read is that of the connection.
func (m *meter) Read(into []byte) (int, error) {
	n, err := m.Conn.Read(into)
	if m.unread += n; m.unread > longestRow {
		m.Close()
		return 0, errEndless
	}
	return n, err
}

// Write is that of the connection.
func (m *meter) Write(from []byte) (int, error) {
	m.unread = 0
	return m.Conn.Write(from)
}

// SyscallConn is that of the connection: the driver asks it whether the server has closed a connection that was idle.
func (m *meter) SyscallConn() (syscall.RawConn, error) {
	conn, ok := m.Conn.(syscall.Conn)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	return conn.SyscallConn()
}

// meterKey is the context's key for the place where dialing leaves the meter of the connection that is made.
type meterKey struct{}

// metered is dial with a meter.
func metered(dial outgoing.Dialer) outgoing.Dialer {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		m := &meter{Conn: conn}
		if made, ok := ctx.Value(meterKey{}).(**meter); ok {
			*made = m
		}
		return m, nil
	}
}

// conn is a connection whose rows reset its meter.
type conn struct {
	mysqlConn
	meter *meter
}

// mysqlConn is what a connection of the driver can do.
type mysqlConn interface {
	driver.Conn
	driver.ConnBeginTx
	driver.ConnPrepareContext
	driver.ExecerContext
	driver.NamedValueChecker
	driver.Pinger
	driver.QueryerContext
	driver.SessionResetter
	driver.Validator
}

// QueryContext is that of the driver.
func (c *conn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	return c.rows(c.mysqlConn.QueryContext(ctx, query, args))
}

// PrepareContext is that of the driver.
func (c *conn) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	made, err := c.mysqlConn.PrepareContext(ctx, query)
	if err != nil {
		return nil, err
	}
	return &statement{made.(mysqlStatement), c}, nil
}

func (c *conn) rows(r driver.Rows, err error) (driver.Rows, error) {
	if err != nil {
		return nil, err
	}
	return &rows{r.(mysqlRows), c.meter}, nil
}

// statement is a prepared statement whose rows reset the meter.
type statement struct {
	mysqlStatement
	conn *conn
}

// mysqlStatement is what a prepared statement of the driver can do.
type mysqlStatement interface {
	driver.Stmt
	driver.StmtExecContext
	driver.StmtQueryContext
	driver.NamedValueChecker
}

// QueryContext is that of the driver.
func (s *statement) QueryContext(ctx context.Context, args []driver.NamedValue) (driver.Rows, error) {
	return s.conn.rows(s.mysqlStatement.QueryContext(ctx, args))
}

// rows reset the meter with each row.
type rows struct {
	mysqlRows
	meter *meter
}

// mysqlRows is what the rows of the driver can do.
type mysqlRows interface {
	driver.RowsNextResultSet
	driver.RowsColumnTypeDatabaseTypeName
	driver.RowsColumnTypeNullable
	driver.RowsColumnTypePrecisionScale
	driver.RowsColumnTypeScanType
}

// Next is that of the driver.
func (r *rows) Next(into []driver.Value) error {
	r.meter.unread = 0
	return r.mysqlRows.Next(into)
}
