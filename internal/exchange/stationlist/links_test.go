package stationlist

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
)

// linksOf are the links of a site that a list brought, in a line each.
func linksOf(now *site.Site) (list []string) {
	for _, l := range now.Links() {
		if !strings.HasSuffix(l.Name, "-link") {
			continue
		}
		text := fmt.Sprintf("%s %s/%s %s", l.Name, l.Protocol, l.Transport, l.Framing)
		if l.Serial != nil {
			text += fmt.Sprintf(" %s %d %d%s%d", l.Serial.Device, l.Serial.Baud, l.Serial.DataBits, l.Serial.Parity, l.Serial.StopBits)
		} else {
			text += fmt.Sprintf(" %s:%d", l.Host, l.Port)
		}
		list = append(list, text)
	}
	return list
}

// Stations bring links of their own, as the lists of people have them: serial lines, gateways, addresses of all kinds.
func TestLinksOfStations(t *testing.T) {
	for text, want := range map[string][]string{
		"Name;Schnittstelle;Baudrate;Parität;Stoppbits;Geräteadresse\nP1;/dev/ttyUSB0;19200;gerade;1;1\nP2;/dev/ttyUSB0;19200;gerade;1;2\n": {"P1-link modbus/serial rtu /dev/ttyUSB0 19200 8even1"},
		"Station,Address,Port,Settings\na,1,COM3,\"9600,8,N,1\"\nb,2,COM4,9600 7E1\nc,3,COM5,\n":                                            {"a-link modbus/serial rtu COM3 9600 8none1", "b-link modbus/serial ascii COM4 9600 7even1", "c-link modbus/serial rtu COM5 9600 8even1"},
		"name,com port,framing,unit\na,COM1,ASCII,1\n":                                                                                      {"a-link modbus/serial ascii COM1 9600 8even1"},
		"Drive,Node,Gateway,Framing\nP1,1,192.0.2.40:4001,RTU over TCP\nP2,2,192.0.2.40,RTU over TCP\n":                                     {"P1-link modbus/tcp rtu 192.0.2.40:4001", "P2-link modbus/tcp rtu 192.0.2.40:502"},
		"Drive,Node,Gateway,Protocol\nP1,1,192.0.2.40,Modbus RTU\nP2,2,192.0.2.41,Modbus TCP\nP3,3,192.0.2.42,Modbus UDP\n":                 {"P1-link modbus/tcp mbap 192.0.2.40:502", "P2-link modbus/tcp mbap 192.0.2.41:502", "P3-link modbus/udp mbap 192.0.2.42:502"},
		"name,url,unit\na,tcp://192.0.2.50:503,1\nb,192.0.2.51,2\nc,[2001:db8::1]:504,3\nd,plc.example,4\n":                                 {"a-link modbus/tcp mbap 192.0.2.50:503", "b-link modbus/tcp mbap 192.0.2.51:502", "c-link modbus/tcp mbap 2001:db8::1:504", "d-link modbus/tcp mbap plc.example:502"},
		"RTU Name,DNP Address,IP,TCP Port,Master Address,Unsolicited\nB1,10,192.0.2.30,20000,3,Yes\nB2,11,192.0.2.31,20000,3,No\n":          {"B1-link dnp3/tcp  192.0.2.30:20000", "B2-link dnp3/tcp  192.0.2.31:20000"},
		"RTU,Address,IP,Protocol\nB1,10,192.0.2.30,DNP3\n":                                                                                  {"B1-link dnp3/tcp  192.0.2.30:20000"},
	} {
		left, list, faults := taken(t, plant(t), text, Options{})
		require.Empty(t, faults, text)
		assert.Empty(t, list.Unused(), text)
		assert.Equal(t, want, linksOf(left), text)
	}
	left, list, faults := taken(t, plant(t), "RTU Name,DNP Address,IP,Master Address,Unsolicited\nB1,10,192.0.2.30,3,Yes\n", Options{})
	require.Empty(t, faults)
	assert.Empty(t, list.Notes[1:])
	b1, _ := left.Station("B1")
	assert.Equal(t, 3, b1.MasterAddress())
	assert.True(t, b1.Unsolicited)
	_, list, _ = taken(t, plant(t), "Drive,Node,Gateway,Protocol\nP1,1,192.0.2.40,Modbus RTU\n", Options{})
	assert.Contains(t, strings.Join(list.Notes, "\n"), `"Modbus RTU" behind 192.0.2.40 is taken for a gateway that translates`)
}

func TestLinksThatAreNotUnderstood(t *testing.T) {
	for text, says := range map[string]string{
		"name,com port,baud,unit\na,COM1,fast,1\n":              `"fast" is no baud rate`,
		"name,com port,parity,unit\na,COM1,yes,1\n":             `"yes" is no parity`,
		"name,com port,line settings,unit\na,COM1,standard,1\n": `"standard" does not say how the line is set`,
		"name,ip,framing,unit\na,192.0.2.1,fast,1\n":            `"fast" is no framing`,
		"name,url,unit\na,192.0.2.1:http,1\n":                   `"http" is no port`,
		"name,ip,unit,template\na,192.0.2.1,1,nosuch\n":         "nosuch",
	} {
		_, _, faults := taken(t, plant(t), text, Options{})
		require.NotEmpty(t, faults, text)
		assert.Contains(t, faults[0].Message, says, text)
		assert.Equal(t, 2, faults[0].Row)
	}
	_, _, faults := taken(t, plant(t), "name,ip,unit,Model\na,192.0.2.1,1,pmup\n", Options{})
	require.NotEmpty(t, faults, "a template that is mistyped is told")
	left, list, faults := taken(t, plant(t), "name,ip,unit,Model\na,192.0.2.1,1,CX9\nb,192.0.2.2,1,pump\n", Options{Values: map[string]string{"tag": "x"}})
	require.Empty(t, faults)
	assert.Contains(t, strings.Join(list.Notes, "\n"), `column Model: there is no template "CX9"`)
	b, _ := left.Station("b")
	assert.Equal(t, "pump", b.Template)
}
