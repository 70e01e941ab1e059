package modbus

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRequestsAmongWhatComes(t *testing.T) {
	request := func(f Framing, pdu ...byte) []byte { return f.Append(nil, Frame{Unit: 7, PDU: pdu}) }
	for _, f := range []Framing{RTU, ASCII} {
		asked := request(f, 3, 0, 0, 0, 2)
		assert.True(t, HoldsRequest(f, asked), f)
		assert.True(t, HoldsRequest(f, append(append([]byte{0xFF, 0x00}, asked...), request(f, 3, 4, 0, 0, 0, 0)...)), "with noise before and its response behind")
		assert.False(t, HoldsRequest(f, request(f, 3, 4, 0, 0, 0, 0)), "a response")
		assert.False(t, HoldsRequest(f, request(f, 1, 3, 0, 0, 2)), "a response of three octets")
		assert.False(t, HoldsRequest(f, request(f, 6, 0, 0, 0, 2)), "a write, whose response is the same")
		assert.False(t, HoldsRequest(f, request(f, 3, 0, 0, 0, 0)), "of nothing")
		asked[3] ^= 1
		assert.False(t, HoldsRequest(f, asked), "damaged")
	}
	assert.False(t, HoldsRequest(MBAP, request(MBAP, 3, 0, 0, 0, 2)))
}

func FuzzHoldsRequest(f *testing.F) {
	f.Add([]byte(":070300000002F4\r\n"), byte(ASCII))
	f.Add([]byte{7, 3, 0, 0, 0, 2, 0xC4, 0x6D}, byte(RTU))
	f.Fuzz(func(t *testing.T, b []byte, framing byte) {
		before := string(b)
		HoldsRequest(Framing(framing%3), b)
		assert.Equal(t, before, string(b), "what is looked at stays as it was")
	})
}
