package dnp3

import (
	"fmt"
	"slices"
	"time"

	"arithmon/internal/live/diagnose"
	"arithmon/internal/protocol/dnp3"
)

// lookEvery is how often it is looked for other addresses at most.
const lookEvery = time.Minute

// lookAround asks for the addresses that an outstation may have instead whose data link layer is silent: those near its own and the one that
// all share for their link status, and its own in the name of other masters, since some answer none but the one that they were told. What
// answers is noted (stranger). On a serial line several would answer at once, so only the shared address is asked there.
func (s *session) lookAround(r *remote) {
	s.mu.Lock()
	due := time.Since(s.knocked) > lookEvery && len(s.remotes) == 1
	if due {
		s.knocked = time.Now()
	}
	s.mu.Unlock()
	if !due {
		return
	}
	theirs, ours := uint16(r.station.LinkAddress()), uint16(r.station.MasterAddress())
	addresses := []uint16{dnp3.SelfAddress}
	if !s.link.Transport.UsesSerialPort() {
		addresses = append(addresses, append(around(0, 257), 1000, 1024, 4096, 10000)...)
		masters := append(around(0, 33), 100, 101, 200, 250, 254, 255, 256, 1000, 1024, 4096, 10000)
		defer s.channel.KnockAs(theirs, without(masters, ours)...)
	}
	s.channel.Knock(ours, without(addresses, theirs)...) // a connection that is gone is noticed elsewhere
}

func without(list []uint16, one uint16) []uint16 {
	return slices.DeleteFunc(slices.Clone(list), func(a uint16) bool { return a == one })
}

// heardAs notes that a silent station answered another master. One that answers several answers whoever asks, and is silent for another
// reason. s.mu is held.
func (s *session) heardAs(r *remote, master uint16) {
	if !slices.Contains(r.masters, master) && len(r.masters) < 2 {
		r.masters = append(r.masters, master)
	}
	text := fmt.Sprintf("outstation %d sends to master address %d, and not to %d", r.station.LinkAddress(), master, r.station.MasterAddress())
	if len(r.masters) > 1 {
		text = ""
	}
	r.note(diagnose.NoteOtherMaster, float64(master), text)
}
