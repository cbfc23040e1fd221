package meter

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gosnmp/gosnmp"

	"vividstrain/core/sense"
)

// SNMP is a meter that queries an agent of version 2c or 3. Without picks it reads the standard
// tables: load and memory (HOST-RESOURCES-MIB, RFC 2790), temperatures (ENTITY-SENSOR-MIB, RFC
// 3433) and links (IF-MIB, RFC 2863).
type SNMP struct {
	pace
	patience
	lacks
	last   error
	agent  gosnmp.GoSNMP
	picks  []Pick
	open   bool
	totals map[string]total
}

// SNMPAccess states how to authenticate with an agent. With a user, version 3 is used.
type SNMPAccess struct {
	Community        string
	User             string
	AuthKey, PrivKey string
	Auth             string // md5, sha, sha256 or sha512
	Priv             string // des, aes or aes256
}

var authProtocols = map[string]gosnmp.SnmpV3AuthProtocol{"": gosnmp.SHA, "md5": gosnmp.MD5, "sha": gosnmp.SHA, "sha256": gosnmp.SHA256, "sha512": gosnmp.SHA512}
var privProtocols = map[string]gosnmp.SnmpV3PrivProtocol{"": gosnmp.AES, "des": gosnmp.DES, "aes": gosnmp.AES, "aes256": gosnmp.AES256}

// NewSNMP returns a meter for an agent at host or host:port.
func NewSNMP(name, address string, access SNMPAccess, every time.Duration, picks []Pick) (*SNMP, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		host, port = address, "161"
	}
	number, err := strconv.ParseUint(port, 10, 16)
	if err != nil || host == "" {
		return nil, fmt.Errorf("%q is not an agent like nas or nas:161", address)
	}
	for _, p := range picks {
		if strings.Trim(p.At, ".0123456789") != "" || !strings.Contains(p.At, ".") {
			return nil, fmt.Errorf("%q is not an object identifier like 1.3.6.1.2.1.1.3.0", p.At)
		}
	}
	s := &SNMP{pace: pace{"snmp", name, every}, picks: picks, totals: map[string]total{}}
	s.agent = gosnmp.GoSNMP{Target: host, Port: uint16(number), Version: gosnmp.Version2c, Community: access.Community,
		Timeout: time.Second, Retries: 1, MaxOids: 30, MaxRepetitions: 20}
	if access.Community == "" {
		s.agent.Community = "public"
	}
	if access.User == "" {
		return s, nil
	}
	auth, ok := authProtocols[access.Auth]
	priv, ok2 := privProtocols[access.Priv]
	if !ok || !ok2 {
		return nil, errors.New("auth is one of md5, sha, sha256, sha512, and priv one of des, aes, aes256")
	}
	s.agent.Version, s.agent.SecurityModel, s.agent.MsgFlags = gosnmp.Version3, gosnmp.UserSecurityModel, gosnmp.NoAuthNoPriv
	user := &gosnmp.UsmSecurityParameters{UserName: access.User, AuthenticationProtocol: gosnmp.NoAuth, PrivacyProtocol: gosnmp.NoPriv}
	if access.AuthKey != "" {
		s.agent.MsgFlags = gosnmp.AuthNoPriv
		user.AuthenticationProtocol, user.AuthenticationPassphrase = auth, access.AuthKey
	}
	if access.PrivKey != "" {
		s.agent.MsgFlags = gosnmp.AuthPriv
		user.PrivacyProtocol, user.PrivacyPassphrase = priv, access.PrivKey
	}
	s.agent.SecurityParameters = user
	return s, nil
}

// Close closes the socket.
func (s *SNMP) Close() error {
	if s.agent.Conn == nil {
		return nil
	}
	return s.agent.Conn.Close()
}

// Sample queries the agent.
func (s *SNMP) Sample(ctx context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	err := s.do(ctx, now, &s.last, func() (err error) {
		s.agent.Context = ctx
		if !s.open {
			if err = s.agent.Connect(); err != nil {
				return s.explain(err)
			}
			s.open = true
		}
		if len(s.picks) > 0 {
			list, err = s.ask(now, list)
		} else {
			list, err = s.tables(now, list)
		}
		return s.explain(err)
	})
	return list, err
}

// explain adds the agent's address to an error, but never its secrets.
func (s *SNMP) explain(err error) error {
	if err == nil {
		return nil
	}
	if strings.Contains(err.Error(), "timeout") {
		err = errors.New("it does not answer; look at the address, and at the community or user")
	}
	return fmt.Errorf("agent %s: %w", net.JoinHostPort(s.agent.Target, strconv.Itoa(int(s.agent.Port))), err)
}

// ask reads the picks.
func (s *SNMP) ask(now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	s.begin()
	for part := range slices.Chunk(s.picks, 20) {
		names := make([]string, len(part))
		for i := range part {
			names[i] = "." + strings.TrimPrefix(part[i].At, ".")
		}
		answer, err := s.agent.Get(names)
		if err != nil {
			return list, err
		}
		for i := range part {
			if i >= len(answer.Variables) {
				break
			}
			v, counter, err := valueOf(answer.Variables[i])
			if err != nil {
				s.add(&part[i], err)
				continue
			}
			if counter && isRate(part[i].Quantity) {
				var ok bool
				if v, ok = s.rate(part[i].At, v, now); !ok {
					continue
				}
			}
			r, err := part[i].reading(v)
			if err != nil {
				s.add(&part[i], err)
				continue
			}
			list = append(list, r)
		}
	}
	return list, s.all(len(s.picks))
}

// valueOf returns the number in an answer, and whether it is a counter.
func valueOf(v gosnmp.SnmpPDU) (value float64, counter bool, err error) {
	switch v.Type {
	case gosnmp.NoSuchObject, gosnmp.NoSuchInstance, gosnmp.EndOfMibView, gosnmp.Null:
		return 0, false, errors.New("the agent has no such object")
	case gosnmp.OctetString:
		text, _ := v.Value.([]byte)
		value, err = ParseNumber(string(text))
		return value, false, err
	case gosnmp.OpaqueFloat:
		f, _ := v.Value.(float32)
		return float64(f), false, nil
	case gosnmp.OpaqueDouble:
		f, _ := v.Value.(float64)
		return f, false, nil
	case gosnmp.Integer, gosnmp.Gauge32, gosnmp.TimeTicks, gosnmp.Counter32, gosnmp.Counter64, gosnmp.Uinteger32:
		f, _ := gosnmp.ToBigInt(v.Value).Float64()
		return f, v.Type == gosnmp.Counter32 || v.Type == gosnmp.Counter64, nil
	}
	return 0, false, fmt.Errorf("it is not a number but %s", v.Type)
}

func (s *SNMP) rate(key string, v float64, now time.Time) (float64, bool) {
	before, known := s.totals[key]
	s.totals[key] = total{v, now}
	elapsed := now.Sub(before.at).Seconds()
	if !known || elapsed <= 0 || v < before.value {
		return 0, false
	}
	return (v - before.value) / elapsed, true
}

// Objects of the standard tables.
const (
	hrProcessorLoad   = ".1.3.6.1.2.1.25.3.3.1.2"
	hrStorage         = ".1.3.6.1.2.1.25.2.3.1" // its columns: 2 type, 4 allocation units, 5 size, 6 used
	hrStorageRAM      = ".1.3.6.1.2.1.25.2.1.2"
	entPhySensor      = ".1.3.6.1.2.1.99.1.1.1" // 1 type, 2 scale, 3 precision, 4 value
	ifName            = ".1.3.6.1.2.1.31.1.1.1.1"
	ifHCInOctets      = ".1.3.6.1.2.1.31.1.1.1.6"
	ifHCOutOctets     = ".1.3.6.1.2.1.31.1.1.1.10"
	ifHighSpeed       = ".1.3.6.1.2.1.31.1.1.1.15" // in Mb/s
	sensorCelsius     = 8
	sensorWatts       = 6
	sensorRPM         = 10
	maxRowsOfATable   = 512
	unitsOfPrecision  = 9 // the code of 10^0 in entPhySensorScale
	stepsOfPrecision  = 3
	columnOfNetSpeeds = ifHighSpeed
)

// walk reads a column of a table: its values by row index.
func (s *SNMP) walk(column string) (map[string]gosnmp.SnmpPDU, []string, error) {
	rows, order := map[string]gosnmp.SnmpPDU{}, []string{}
	errEnough := errors.New("enough")
	err := s.agent.BulkWalk(column, func(v gosnmp.SnmpPDU) error {
		row := strings.TrimPrefix(v.Name, column)
		rows[row] = v
		if order = append(order, row); len(order) >= maxRowsOfATable {
			return errEnough
		}
		return nil
	})
	if errors.Is(err, errEnough) {
		err = nil
	}
	return rows, order, err
}

// numbers reads a column of numbers; a table that the agent lacks is empty.
func (s *SNMP) numbers(column string) (map[string]float64, []string, error) {
	rows, order, err := s.walk(column)
	values := map[string]float64{}
	for row, v := range rows {
		if f, _, err := valueOf(v); err == nil {
			values[row] = f
		}
	}
	return values, order, err
}

// tables reads the standard tables.
func (s *SNMP) tables(now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	load, cores, err := s.numbers(hrProcessorLoad)
	if err != nil {
		return list, err
	}
	sum := 0.0
	for i, row := range cores {
		list = append(list, sense.Reading{Quantity: sense.CPUCore, Label: strconv.Itoa(i), Value: load[row]})
		sum += load[row]
	}
	if len(cores) > 0 {
		list = append(list, sense.Reading{Quantity: sense.CPU, Value: sum / float64(len(cores))})
	}
	for _, read := range []func(time.Time, []sense.Reading) ([]sense.Reading, error){s.memory, s.sensors, s.links} {
		if list, err = read(now, list); err != nil {
			return list, err
		}
	}
	if len(list) == 0 {
		return list, errors.New("it has none of the standard tables; name objects under \"read\"")
	}
	return unique(list), nil
}

func (s *SNMP) memory(_ time.Time, list []sense.Reading) ([]sense.Reading, error) {
	kinds, rows, err := s.walk(hrStorage + ".2")
	if err != nil {
		return list, err
	}
	for _, row := range rows {
		if kind, _ := kinds[row].Value.(string); kind != hrStorageRAM {
			continue
		}
		answer, err := s.agent.Get([]string{hrStorage + ".4" + row, hrStorage + ".5" + row, hrStorage + ".6" + row})
		if err != nil || len(answer.Variables) < 3 {
			return list, err
		}
		var v [3]float64
		for i := range v {
			v[i], _, _ = valueOf(answer.Variables[i])
		}
		total, used := v[0]*v[1], v[0]*v[2]
		return append(list, sense.Reading{Quantity: sense.MemTotal, Value: total}, sense.Reading{Quantity: sense.MemUsed, Value: used},
			sense.Reading{Quantity: sense.MemFree, Value: total - used}), nil
	}
	return list, nil
}

// sensors reads those kinds of sensor from the table that are known here.
func (s *SNMP) sensors(_ time.Time, list []sense.Reading) ([]sense.Reading, error) {
	kinds, rows, err := s.numbers(entPhySensor + ".1")
	if err != nil || len(rows) == 0 {
		return list, err
	}
	var columns [3]map[string]float64
	for i := range columns {
		if columns[i], _, err = s.numbers(entPhySensor + "." + strconv.Itoa(2+i)); err != nil {
			return list, err
		}
	}
	for _, row := range rows {
		quantity := map[float64]string{sensorCelsius: sense.Temperature, sensorWatts: sense.Power, sensorRPM: sense.Fan}[kinds[row]]
		if quantity == "" {
			continue
		}
		exponent := stepsOfPrecision*(columns[0][row]-unitsOfPrecision) - columns[1][row]
		list = append(list, sense.Reading{Quantity: quantity, Label: strings.TrimPrefix(row, "."), Value: columns[2][row] * math.Pow10(int(exponent))})
	}
	return list, nil
}

// links reads the traffic of the interfaces.
func (s *SNMP) links(now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	names, rows, err := s.walk(ifName)
	if err != nil || len(rows) == 0 {
		return list, err
	}
	speeds, _, err := s.numbers(columnOfNetSpeeds)
	if err != nil {
		return list, err
	}
	in, _, err := s.numbers(ifHCInOctets)
	if err != nil {
		return list, err
	}
	out, _, err := s.numbers(ifHCOutOctets)
	if err != nil {
		return list, err
	}
	for _, row := range rows {
		name, _ := names[row].Value.([]byte)
		received, ok := s.rate("in"+row, in[row], now)
		sent, ok2 := s.rate("out"+row, out[row], now)
		if !ok || !ok2 || in[row]+out[row] == 0 {
			continue
		}
		list = append(list, sense.Reading{Quantity: sense.NetReceive, Label: string(name), Value: 8 * received}, sense.Reading{Quantity: sense.NetSend, Label: string(name), Value: 8 * sent})
		if speeds[row] > 0 {
			list = append(list, sense.Reading{Quantity: sense.NetLink, Label: string(name), Value: min(100, 100*8*max(received, sent)/(speeds[row]*1e6))})
		}
	}
	return list, nil
}
