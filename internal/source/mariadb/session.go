package mariadb

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"sync"
	"syscall"

	"github.com/go-sql-driver/mysql"

	"pingo/internal/outgoing"
)

// nobodysKey names a public key whose private key nobody has. Servers may ask for the password encrypted with a key that
// they name themselves where the connection has no TLS, so whoever stands in between would learn it. With this key they
// learn nothing, and are refused.
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
	conn, err := v.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	if err := verify(ctx, conn); err != nil {
		conn.Close()
		return nil, err
	}
	return conn, nil
}

func verify(ctx context.Context, conn driver.Conn) error {
	if _, err := conn.(driver.ExecerContext).ExecContext(ctx, setNames, nil); err != nil {
		return err
	}
	rows, err := conn.(driver.QueryerContext).QueryContext(ctx, session, nil)
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

// errEndless is what a server gets that sends a value which never ends.
var errEndless = errors.New("MariaDB sent a value of more than 64 MB, which Pingo does not read")

const (
	fullPacket = 1<<24 - 1
	// fullPackets is how many packets of one value may be full, so how many times 16 MB it may have.
	fullPackets = 4
)

// boundedDial is dial for connections that end when a value has too many bytes.
func boundedDial(dial outgoing.Dialer) outgoing.Dialer {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return &bounded{Conn: conn}, nil
	}
}

// bounded is a connection that ends when a value has too many bytes. It follows the packets of the protocol: each has a
// head of four bytes, of which three are the length, and a value that is longer than a packet goes on in the next one.
type bounded struct {
	net.Conn
	// Read owns these: the reader of a connection is one goroutine at a time.
	head []byte
	left int // of the packet
	full int // packets in a row
}

// SyscallConn is that of the connection: the driver asks it whether the server has closed a connection that was idle.
func (b *bounded) SyscallConn() (syscall.RawConn, error) {
	conn, ok := b.Conn.(syscall.Conn)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	return conn.SyscallConn()
}

// Read is that of the connection.
func (b *bounded) Read(into []byte) (int, error) {
	n, err := b.Conn.Read(into)
	for some := into[:n]; len(some) > 0; {
		if b.left > 0 {
			skipped := min(b.left, len(some))
			b.left -= skipped
			some = some[skipped:]
			continue
		}
		taken := min(4-len(b.head), len(some))
		b.head, some = append(b.head, some[:taken]...), some[taken:]
		if len(b.head) < 4 {
			break
		}
		b.left = int(b.head[0]) | int(b.head[1])<<8 | int(b.head[2])<<16
		b.head = b.head[:0]
		if b.left < fullPacket {
			b.full = 0
		} else if b.full++; b.full > fullPackets {
			b.Close()
			return 0, errEndless
		}
	}
	if err == io.EOF && n > 0 {
		err = nil
	}
	return n, err
}
