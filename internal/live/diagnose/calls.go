package diagnose

import (
	"slices"
	"strings"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/site"
)

// uncalled are the ways in which a call does not come about, with what is said of them and how certain that is.
var uncalled = map[failure.Kind]struct {
	sentence  string
	certainty float64
	next      []Step
}{
	failure.Busy: {"call-busy", 0.85, []Step{
		say("see who else calls that number: another service, or a person"),
		say("if it stays so: the far modem holds a call that is over; take its power away and give it back"),
	}},
	failure.NoAnswer: {"call-unanswered", 0.9, []Step{
		say("call the number with a telephone: a modem that answers is heard at once"),
		say("compare number with what the far line has"), say("let the far modem answer by itself (S0=1), and see that it has power"),
		say("give modem.connect more time, if the far modem answers late"),
	}},
	failure.NoCarrier: {"call-without-carrier", 0.9, []Step{
		say("call the number with a telephone: is it a modem that answers, or a voice, a fax or nothing?"),
		say("compare number with what the far line has"), say("set both modems to one modulation and rate, in modem.init here and in the far one"),
	}},
	failure.NoDialtone: {"call-without-dialtone", 0.95, []Step{
		say("plug the telephone line into the modem, and listen to it with a telephone"),
		say("behind an exchange of its own: let the modem dial without waiting for the tone (X3 in modem.init), and give its prefix in modem.dial"),
	}},
	failure.Undialled: {"call-refused", 0.9, []Step{
		say("compare modem.dial with the modem's manual"), say("see whether number has what the modem does not dial"),
	}},
}

// calls finds out why calls over a modem do not come about. Where no call can, that is the link's; otherwise it is told of the first station at
// the number.
func (f *finder) calls(l Link) {
	if l.Link.Transport != site.Dialup {
		return
	}
	numbers := map[string][]Station{}
	var order []string
	for _, s := range f.stations[l.Link.Name] {
		if _, known := uncalled[s.Failure]; known {
			if numbers[s.Station.Number] == nil {
				order = append(order, s.Station.Number)
			}
			numbers[s.Station.Number] = append(numbers[s.Station.Number], s)
			f.covered[s.Station.Name] = true
		}
	}
	whole := false
	for _, number := range order {
		list := numbers[number]
		why := uncalled[list[0].Failure]
		names := make([]string, len(list))
		for i, s := range list {
			names[i] = s.Station.Name
		}
		evidence := []string{list[0].Reason}
		kind, subject := site.KindStation, names[0]
		if list[0].Failure == failure.NoDialtone || list[0].Failure == failure.Undialled && len(order) > 1 { // whatever is called
			if whole {
				continue
			}
			whole, kind, subject = true, site.KindLink, l.Link.Name
		} else if len(list) > 1 {
			evidence = append(evidence, "the stations at that number: "+strings.Join(abridged(names), ", "))
		}
		f.add(kind, subject, CallFails, why.certainty, because(why.sentence, "number", number), evidence, slices.Clone(why.next)...)
	}
}
