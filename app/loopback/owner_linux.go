package loopback

import (
	"bufio"
	"encoding/binary"
	"encoding/hex"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
)

// owner reads the kernel's tables of TCP sockets: the other end of a loopback connection is a
// socket of this computer, and its row names its user (proc_net_tcp in the kernel's
// documentation: columns local_address, rem_address, st, …, uid).
func owner(conn net.Conn) (uid int, ok bool) {
	theirs, ours := addrPort(conn.RemoteAddr()), addrPort(conn.LocalAddr())
	for _, table := range []string{"/proc/self/net/tcp", "/proc/self/net/tcp6"} {
		if uid, ok = find(table, theirs, ours); ok {
			return uid, true
		}
	}
	return 0, false
}

func addrPort(a net.Addr) netip.AddrPort {
	p := a.(*net.TCPAddr).AddrPort()
	return netip.AddrPortFrom(p.Addr().Unmap(), p.Port())
}

const established = "01"

func find(table string, local, remote netip.AddrPort) (uid int, ok bool) {
	f, err := os.Open(table)
	if err != nil {
		return 0, false
	}
	defer func() { _ = f.Close() }()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		c := strings.Fields(lines.Text())
		if len(c) < 8 || c[3] != established || parse(c[1]) != local || parse(c[2]) != remote {
			continue
		}
		uid, err := strconv.Atoi(c[7])
		return uid, err == nil
	}
	return 0, false
}

// parse reads an address of the table: four-byte words in the machine's own order, and a port.
func parse(s string) netip.AddrPort {
	host, port, _ := strings.Cut(s, ":")
	b, err := hex.DecodeString(host)
	n, err2 := strconv.ParseUint(port, 16, 16)
	if err != nil || err2 != nil || len(b)%4 != 0 {
		return netip.AddrPort{}
	}
	for i := 0; i < len(b); i += 4 {
		binary.NativeEndian.PutUint32(b[i:], binary.BigEndian.Uint32(b[i:]))
	}
	ip, _ := netip.AddrFromSlice(b)
	return netip.AddrPortFrom(ip.Unmap(), uint16(n))
}
