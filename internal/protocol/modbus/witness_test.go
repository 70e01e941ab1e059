package modbus

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// dissect lets an independent protocol analyser read frames, each a TCP segment between two ports, and returns the
// fields asked for, one line a frame.
func dissect(t *testing.T, frames [][]byte, ports string, decodeAs []string, fields ...string) [][]string {
	t.Helper()
	dir := t.TempDir()
	var dump strings.Builder
	for _, f := range frames {
		fmt.Fprintf(&dump, "0000 % x\n", f)
	}
	text, capture := filepath.Join(dir, "frames.txt"), filepath.Join(dir, "frames.pcap")
	require.NoError(t, os.WriteFile(text, []byte(dump.String()), 0o600))
	out, err := exec.Command("text2pcap", "-q", "-T", ports, text, capture).CombinedOutput()
	require.NoError(t, err, "make tools installs it; %s", out)
	args := append([]string{"-r", capture, "-T", "fields", "-e", "_ws.malformed"}, decodeAs...)
	for _, f := range fields {
		args = append(args, "-e", f)
	}
	read, err := exec.Command("tshark", args...).Output()
	require.NoError(t, err)
	var lines [][]string
	for line := range strings.SplitSeq(strings.TrimSuffix(string(read), "\n"), "\n") {
		lines = append(lines, strings.Split(line, "\t"))
	}
	require.Len(t, lines, len(frames))
	return lines
}

func TestAnotherProgramReadsOurFrames(t *testing.T) {
	sides := []struct {
		name, ports string
		pdu         func(i int) string
	}{
		{"requests", "40000,502", func(i int) string { return examples[i].pdu }},
		{"answers", "502,40000", func(i int) string { return examples[i].answer }},
	}
	for _, side := range sides {
		frames := func(framing Framing) (list [][]byte) {
			for i := range examples {
				list = append(list, framing.Append(nil, Frame{uint16(i + 1), 17, unhex(t, side.pdu(i))}))
			}
			return list
		}
		t.Run("MBAP "+side.name, func(t *testing.T) {
			for i, line := range dissect(t, frames(MBAP), side.ports, nil, "mbtcp.trans_id", "mbtcp.unit_id", "modbus.func_code") {
				assert.Equal(t, []string{"", strconv.Itoa(i + 1), "17", strconv.Itoa(int(examples[i].request.Function))}, line, examples[i].name)
			}
		})
		t.Run("RTU "+side.name, func(t *testing.T) {
			as := []string{"-d", "tcp.port==502,mbrtu", "-o", "mbrtu.crc_verification:TRUE"}
			for i, line := range dissect(t, frames(RTU), side.ports, as, "mbrtu.unit_id", "modbus.func_code", "mbrtu.crc16.status") {
				if len(side.pdu(i)) == 2 {
					continue // the analyser reads no RTU frame as short as that of function 17
				}
				assert.Equal(t, []string{"", "17", strconv.Itoa(int(examples[i].request.Function)), "1"}, line, "%s: the CRC is good", examples[i].name)
			}
		})
	}
	requests := [][]byte{}
	for i, c := range examples {
		requests = append(requests, AppendMBAP(nil, Frame{uint16(i), 1, unhex(t, c.pdu)}))
	}
	for i, line := range dissect(t, requests, "40000,502", nil, "modbus.reference_num") {
		if r := examples[i].request; !slices.Contains([]Function{Diagnostics, ReportServerID, ReadWriteMultipleRegisters, EncapsulatedInterface}, r.Function) {
			assert.Equal(t, strconv.Itoa(int(r.Address)), line[1], examples[i].name)
		}
	}
}
