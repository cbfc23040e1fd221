package meter

import (
	"io"
	"log"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/require"

	"vividstrain/core/sense"
)

// agent answers like a storage box, over UDP.
type agent struct {
	socket  net.PacketConn
	mu      sync.Mutex
	codec   gosnmp.GoSNMP
	objects map[string]gosnmp.SnmpPDU
	order   [][]int
}

const engine = "\x80\x00\x00\x00\x01boat"

func startAgent(t testing.TB, user *gosnmp.UsmSecurityParameters, objects []gosnmp.SnmpPDU) *agent {
	socket, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { socket.Close() })
	a := &agent{socket: socket, objects: map[string]gosnmp.SnmpPDU{}}
	a.codec = gosnmp.GoSNMP{Version: gosnmp.Version2c, Community: "boats", Logger: gosnmp.NewLogger(log.New(io.Discard, "", 0))}
	if user != nil {
		user.AuthoritativeEngineID = engine
		user.Logger = a.codec.Logger
		a.codec.Version, a.codec.SecurityModel, a.codec.SecurityParameters = gosnmp.Version3, gosnmp.UserSecurityModel, user
		a.codec.MsgFlags = gosnmp.AuthPriv
		require.NoError(t, user.InitSecurityKeys())
	}
	a.set(objects)
	go a.serve()
	return a
}

func (a *agent) set(objects []gosnmp.SnmpPDU) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, o := range objects {
		if _, known := a.objects[o.Name]; !known {
			a.order = append(a.order, parts(o.Name))
		}
		a.objects[o.Name] = o
	}
	slices.SortFunc(a.order, slices.Compare)
}

func parts(name string) (list []int) {
	for _, p := range strings.Split(strings.TrimPrefix(name, "."), ".") {
		n, _ := strconv.Atoi(p)
		list = append(list, n)
	}
	return list
}

func (a *agent) serve() {
	buffer := make([]byte, 65536)
	for {
		n, from, err := a.socket.ReadFrom(buffer)
		if err != nil {
			return
		}
		request, err := a.codec.SnmpDecodePacket(slices.Clone(buffer[:n]))
		if request == nil || err != nil && request.Version != gosnmp.Version3 || request.Version != a.codec.Version {
			continue
		}
		if request.Version == gosnmp.Version2c && request.Community != "boats" {
			continue
		}
		if data, err := a.answer(request, err); err == nil {
			a.socket.WriteTo(data, from)
		}
	}
}

// answer makes the answer to a request; an engine that is not known yet is told
// who answers (RFC 3414, section 4).
func (a *agent) answer(request *gosnmp.SnmpPacket, unreadable error) ([]byte, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := &gosnmp.SnmpPacket{Version: request.Version, Community: request.Community, MsgID: request.MsgID, RequestID: request.RequestID,
		PDUType: gosnmp.GetResponse, SecurityModel: request.SecurityModel, MsgMaxSize: 65507, Logger: a.codec.Logger}
	if request.Version == gosnmp.Version3 {
		asked, _ := request.SecurityParameters.(*gosnmp.UsmSecurityParameters)
		mine := a.codec.SecurityParameters.Copy().(*gosnmp.UsmSecurityParameters)
		mine.AuthoritativeEngineBoots, mine.AuthoritativeEngineTime = 1, 1000
		out.SecurityParameters, out.ContextEngineID = mine, engine
		if asked.AuthoritativeEngineID == "" {
			mine.AuthenticationProtocol, mine.PrivacyProtocol = gosnmp.NoAuth, gosnmp.NoPriv
			out.PDUType = gosnmp.Report
			out.Variables = []gosnmp.SnmpPDU{{Name: ".1.3.6.1.6.3.15.1.1.4.0", Type: gosnmp.Counter32, Value: uint32(1)}}
			return out.MarshalMsg()
		}
		if unreadable != nil || asked.UserName != mine.UserName {
			return nil, net.ErrClosed
		}
		out.MsgFlags = gosnmp.AuthPriv
		if err := mine.InitPacket(out); err != nil {
			return nil, err
		}
	}
	switch request.PDUType {
	case gosnmp.GetRequest:
		for _, v := range request.Variables {
			o, known := a.objects[v.Name]
			if !known {
				o = gosnmp.SnmpPDU{Name: v.Name, Type: gosnmp.NoSuchObject}
			}
			out.Variables = append(out.Variables, o)
		}
	default: // the next ones
		at, _ := slices.BinarySearchFunc(a.order, append(parts(request.Variables[0].Name), -1), slices.Compare)
		for range max(1, min(request.MaxRepetitions, 20)) {
			if at >= len(a.order) {
				out.Variables = append(out.Variables, gosnmp.SnmpPDU{Name: request.Variables[0].Name, Type: gosnmp.EndOfMibView})
				break
			}
			name := ""
			for _, p := range a.order[at] {
				name += "." + strconv.Itoa(p)
			}
			out.Variables = append(out.Variables, a.objects[name])
			at++
		}
	}
	return out.MarshalMsg()
}

// box is what a storage box tells of itself.
func box(octets uint64) []gosnmp.SnmpPDU {
	return []gosnmp.SnmpPDU{
		{Name: ".1.3.6.1.2.1.25.3.3.1.2.1", Type: gosnmp.Integer, Value: 30}, {Name: ".1.3.6.1.2.1.25.3.3.1.2.2", Type: gosnmp.Integer, Value: 50},
		{Name: ".1.3.6.1.2.1.25.2.3.1.2.1", Type: gosnmp.ObjectIdentifier, Value: "1.3.6.1.2.1.25.2.1.2"},
		{Name: ".1.3.6.1.2.1.25.2.3.1.4.1", Type: gosnmp.Integer, Value: 4096},
		{Name: ".1.3.6.1.2.1.25.2.3.1.5.1", Type: gosnmp.Integer, Value: 1000000}, {Name: ".1.3.6.1.2.1.25.2.3.1.6.1", Type: gosnmp.Integer, Value: 250000},
		{Name: ".1.3.6.1.2.1.99.1.1.1.1.7", Type: gosnmp.Integer, Value: 8}, {Name: ".1.3.6.1.2.1.99.1.1.1.2.7", Type: gosnmp.Integer, Value: 9},
		{Name: ".1.3.6.1.2.1.99.1.1.1.3.7", Type: gosnmp.Integer, Value: 1}, {Name: ".1.3.6.1.2.1.99.1.1.1.4.7", Type: gosnmp.Integer, Value: 425},
		{Name: ".1.3.6.1.2.1.31.1.1.1.1.2", Type: gosnmp.OctetString, Value: "eth0"}, {Name: ".1.3.6.1.2.1.31.1.1.1.15.2", Type: gosnmp.Gauge32, Value: uint32(1000)},
		{Name: ".1.3.6.1.2.1.31.1.1.1.6.2", Type: gosnmp.Counter64, Value: octets}, {Name: ".1.3.6.1.2.1.31.1.1.1.10.2", Type: gosnmp.Counter64, Value: uint64(5)},
		{Name: ".1.3.6.1.4.1.99999.1.0", Type: gosnmp.OctetString, Value: "38.5"},
	}
}

func TestSNMPTables(t *testing.T) {
	a := startAgent(t, nil, box(1000))
	s := one(t, "- name: nas\n  snmp: "+a.socket.LocalAddr().String()+"\n  community: boats")
	now := time.Now()
	values, err := read(t, s, now)
	require.NoError(t, err)
	require.Equal(t, map[string]float64{sense.CPU: 40, sense.CPUCore + ":0": 30, sense.CPUCore + ":1": 50, sense.MemTotal: 4.096e9, sense.MemUsed: 1.024e9,
		sense.MemFree: 3.072e9, sense.Temperature + ":7": 42.5}, values)
	a.set(box(1000 + 25e6))
	values, err = read(t, s, now.Add(2*time.Second))
	require.NoError(t, err)
	require.InDelta(t, 1e8, values[sense.NetReceive+":eth0"], 1)
	require.InDelta(t, 10, values[sense.NetLink+":eth0"], 1e-6)
}

func TestSNMPObjects(t *testing.T) {
	a := startAgent(t, nil, box(0))
	s := one(t, "- snmp: "+a.socket.LocalAddr().String()+`
  community: boats
  read:
    temp_c: 1.3.6.1.4.1.99999.1.0
    net_rx_bps: {at: 1.3.6.1.2.1.31.1.1.1.6.2, unit: B/s}
    power_w: 1.3.6.1.4.1.99999.7.0
`)
	now := time.Now()
	values, err := read(t, s, now)
	require.NoError(t, err)
	require.Contains(t, sense.Absences([]sense.Source{s})[0].Why, `"1.3.6.1.4.1.99999.7.0": the agent has no such object`)
	require.Equal(t, map[string]float64{sense.Temperature: 38.5}, values)
	a.set(box(1e6))
	values, _ = read(t, s, now.Add(4*time.Second))
	require.InDelta(t, 2e6, values[sense.NetReceive], 1e-6)
}

// Version 3: the answers are signed and enciphered.
func TestSNMPWithAUser(t *testing.T) {
	user := &gosnmp.UsmSecurityParameters{UserName: "purser", AuthenticationProtocol: gosnmp.SHA256, AuthenticationPassphrase: "gangway-42",
		PrivacyProtocol: gosnmp.AES, PrivacyPassphrase: "lifebelt-43"}
	a := startAgent(t, user, box(0))
	config := "- snmp: " + a.socket.LocalAddr().String() + "\n  user: purser\n  auth: sha256\n  auth_key: gangway-42\n  priv: aes\n  priv_key: "
	values, err := read(t, one(t, config+"lifebelt-43"), time.Now())
	require.NoError(t, err)
	require.InDelta(t, 40, values[sense.CPU], 1e-9)
	_, err = read(t, one(t, config+"not-the-key"), time.Now())
	require.Error(t, err)
	require.NotContains(t, err.Error(), "not-the-key")
}

// An agent that never answers costs its own goroutine's time alone, and says so.
func TestSNMPWithoutAnswer(t *testing.T) {
	a := startAgent(t, nil, box(0))
	begun := time.Now()
	_, err := read(t, one(t, "- snmp: "+a.socket.LocalAddr().String()+"\n  community: wrong"), time.Now())
	require.ErrorContains(t, err, "does not answer")
	require.NotContains(t, err.Error(), "wrong")
	require.Less(t, time.Since(begun), 10*time.Second)
}
