package outstation

import (
	"encoding/binary"
	"slices"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/protocol/dnp3"
)

// itemKind is a kind of part of a response.
type itemKind byte

const (
	itemStatic itemKind = iota // present values
	itemEvents
	itemDeadbands
	itemOctets // ready as they are
)

// item is a part of a response that is yet to be put into fragments.
type item struct {
	kind      itemKind
	of        dnp3.Kind
	variation byte    // 0: each point's own
	from, to  int     // positions in the list of points
	classes   [4]bool // of events, when of is none
	most      int     // events, 0: all
	octets    []byte
	class0    bool // it was asked for by class
}

// builder fills a fragment.
type builder struct {
	o      *Outstation
	now    time.Time
	limit  int
	out    []byte
	chosen []*event
	iin    dnp3.IIN
}

// fill puts as much of items into the fragment as there is room for and returns the rest.
func (b *builder) fill(items []item) []item {
	for i := range items {
		var done bool
		switch it := &items[i]; it.kind {
		case itemStatic:
			done = b.statics(it)
		case itemEvents:
			done = b.events(it)
		case itemDeadbands:
			done = b.deadbands(it)
		default:
			if done = len(b.out)+len(it.octets) <= b.limit; done {
				b.out = append(b.out, it.octets...)
			}
		}
		if !done {
			return items[i:]
		}
	}
	return nil
}

// statics puts present values of points in, those next to each other with the same variation under one header.
func (b *builder) statics(it *item) (done bool) {
	list := b.o.points[it.of]
	for it.from < it.to {
		first := list[it.from]
		if first.Hidden && it.class0 {
			it.from++
			continue
		}
		variation := b.o.staticVariation(first, it.variation)
		group := it.of.StaticGroup()
		bits := dnp3.Packed(group, variation)
		room := b.limit - len(b.out) - 7 // header
		size := dnp3.Octets(group, variation)
		n := 0
		for it.from+n < it.to {
			p := list[it.from+n]
			if p.Hidden && it.class0 || b.o.staticVariation(p, it.variation) != variation || int(p.Index) != int(first.Index)+n {
				break
			}
			used := (n + 1) * size
			if bits != 0 {
				used = ((n+1)*bits + 7) / 8
			}
			if used > room {
				break
			}
			n++
		}
		if n == 0 {
			return false
		}
		b.out = dnp3.AppendRange(b.out, group, variation, uint32(first.Index), uint32(n))
		if bits != 0 {
			b.out = appendPacked(b.out, list[it.from:it.from+n], bits)
		} else {
			for _, p := range list[it.from : it.from+n] {
				m := dnp3.Measurement{Group: group, Variation: variation, Value: p.Value, Flags: p.Flags, Time: p.at}
				b.out = dnp3.AppendMeasurement(b.out, &m, 0)
			}
		}
		it.from += n
	}
	return true
}

// staticVariation is the one a point is reported with. Packed ones have no flags, so a point that is not simply online is reported
// with flags instead (A.3.1, A.10.1).
func (o *Outstation) staticVariation(p *point, asked byte) byte {
	if p.Kind == dnp3.OctetString {
		return byte(min(255, len(p.Value.Text())))
	}
	v := asked
	if v == 0 {
		v = p.Static
	}
	if dnp3.Packed(p.Kind.StaticGroup(), v) != 0 && p.Flags&^(dnp3.State) != dnp3.Online {
		return 2
	}
	return v
}

func appendPacked(b []byte, points []*point, bits int) []byte {
	at := len(b)
	b = append(b, make([]byte, (len(points)*bits+7)/8)...)
	for i, p := range points {
		n, _ := p.Value.Float()
		b[at+i*bits/8] |= byte(n) & (1<<bits - 1) << (i * bits % 8)
	}
	return b
}

// events puts events in, in the order in which they happened; those that follow each other with the same variation under one header.
func (b *builder) events(it *item) (done bool) {
	type open struct {
		group, variation byte
		count            int
		at               int // of the count in out
	}
	var h open
	var common dnp3.Time
	var unsync bool
	closeHeader := func() {
		if h.count > 0 {
			binary.LittleEndian.PutUint16(b.out[h.at:], uint16(h.count))
		}
		h = open{}
	}
	taken := 0
	for _, e := range b.o.events {
		if it.most > 0 && taken >= it.most {
			break
		}
		if e.chosen || it.of == dnp3.NoKind && !it.classes[e.class] || it.of != dnp3.NoKind && it.of != e.point.Kind {
			continue
		}
		group, variation := e.shape(it.variation)
		size := dnp3.Octets(group, variation)
		relative := dnp3.Relative(group, variation)
		fresh := h.group != group || h.variation != variation
		if relative && (common == 0 || e.at < common || e.at-common > 0xFFFF || e.unsync != unsync) {
			fresh = true
		}
		need := 2 + size
		if fresh {
			need += 5
			if relative {
				need += 10
			}
		}
		if len(b.out)+need > b.limit {
			closeHeader()
			return false
		}
		if fresh {
			closeHeader()
			if relative && (common == 0 || e.at < common || e.at-common > 0xFFFF || e.unsync != unsync) {
				common, unsync = e.at, e.unsync
				b.out = dnp3.AppendCommonTime(b.out, common, unsync)
			}
			h = open{group: group, variation: variation, at: len(b.out) + 3}
			b.out = dnp3.AppendHeader(b.out, dnp3.Header{Group: group, Variation: variation, Qualifier: dnp3.Index16})
		}
		b.out = append(b.out, byte(e.point.Index), byte(e.point.Index>>8))
		m := dnp3.Measurement{Group: group, Variation: variation, Value: e.value, Flags: e.flags, Status: e.status, Time: e.at}
		b.out = dnp3.AppendMeasurement(b.out, &m, common)
		h.count++
		taken++
		e.chosen = true
		b.o.given[e.class]++
		b.chosen = append(b.chosen, e)
	}
	closeHeader()
	return true
}

// shape is the group and variation an event is reported with, given what was asked for.
func (e *event) shape(asked byte) (group, variation byte) {
	if e.group != 0 {
		return e.group, e.variant
	}
	switch {
	case e.point.Kind == dnp3.OctetString:
		return 111, byte(min(255, len(e.value.Text())))
	case asked != 0:
		return e.point.Kind.EventGroup(), asked
	}
	return e.point.Kind.EventGroup(), e.point.Event
}

// deadbands puts the deadbands of analog inputs in.
func (b *builder) deadbands(it *item) (done bool) {
	list := b.o.points[dnp3.AnalogInput]
	variation := it.variation
	if variation == 0 {
		variation = 3
	}
	for it.from < it.to {
		n := 1
		for it.from+n < it.to && int(list[it.from+n].Index) == int(list[it.from].Index)+n {
			n++
		}
		n = min(n, (b.limit-len(b.out)-7)/dnp3.Octets(34, variation))
		if n <= 0 {
			return false
		}
		b.out = dnp3.AppendRange(b.out, 34, variation, uint32(list[it.from].Index), uint32(n))
		for _, p := range list[it.from : it.from+n] {
			b.out = dnp3.AppendDeadband(b.out, variation, p.Deadband)
		}
		it.from += n
	}
	return true
}

// kindOf is the kind that a group means, and whether it is one of events.
func kindOf(group byte) (k dnp3.Kind, event bool) {
	for k := dnp3.BinaryInput; k < dnp3.KindCount; k++ {
		switch group {
		case k.StaticGroup():
			return k, false
		case k.EventGroup():
			return k, true
		}
	}
	return dnp3.NoKind, false
}

// read says what a read request is answered with.
func (o *Outstation) read(now time.Time, objects dnp3.Objects) (items []item, iin dnp3.IIN) {
	for objects.Next() {
		h := objects.Header
		kind, event := kindOf(h.Group)
		switch {
		case !dnp3.Known(h.Group, h.Variation), h.Group == 60 && h.Variation == 0, o.config.NoEvents && (event || h.Group == 60 && h.Variation > 1):
			iin |= dnp3.IINUnknownObject
		case h.Group == 60 && h.Variation == 1:
			for _, k := range staticOrder {
				if n := len(o.points[k]); n > 0 {
					items = append(items, item{kind: itemStatic, of: k, to: n, class0: true})
				}
			}
		case h.Group == 60:
			items = append(items, o.eventsOf(h, dnp3.NoKind, int(h.Variation)-1))
		case event:
			items = append(items, o.eventsOf(h, kind, 0))
		case kind != dnp3.NoKind:
			made, fault := o.staticsOf(h, objects.Body, kind, itemStatic)
			items, iin = append(items, made...), iin|fault
		case h.Group == 34:
			made, fault := o.staticsOf(h, objects.Body, dnp3.AnalogInput, itemDeadbands)
			items, iin = append(items, made...), iin|fault
		case h.Group == 50:
			items = append(items, item{kind: itemOctets, octets: dnp3.AppendTimeObject(nil, 1, o.Clock(now))})
		case h.Group == 80:
			b := dnp3.AppendHeader(nil, dnp3.Header{Group: 80, Variation: 1, Qualifier: dnp3.Range8, Count: 16})
			i := o.indications()
			items = append(items, item{kind: itemOctets, octets: append(b, byte(i), byte(i>>8))})
		case h.Group == 0:
			made := o.attributes(h)
			if made == nil {
				iin |= dnp3.IINUnknownObject
			}
			items = append(items, made...)
		default:
			iin |= dnp3.IINUnknownObject
		}
	}
	if objects.Err != nil {
		iin |= dnp3.IINParameterError
	}
	return items, iin
}

// staticOrder is the order in which class 0 reports kinds.
var staticOrder = [...]dnp3.Kind{dnp3.BinaryInput, dnp3.DoubleBitInput, dnp3.BinaryOutput, dnp3.Counter, dnp3.FrozenCounter, dnp3.AnalogInput, dnp3.FrozenAnalog, dnp3.AnalogOutput, dnp3.OctetString}

func (o *Outstation) eventsOf(h dnp3.Header, k dnp3.Kind, class int) item {
	it := item{kind: itemEvents, of: k, variation: h.Variation, most: int(h.Count)}
	if k == dnp3.NoKind {
		it.variation = 0
		it.classes[class] = true
	}
	return it
}

// staticsOf are the points that a header means.
func (o *Outstation) staticsOf(h dnp3.Header, body []byte, k dnp3.Kind, kind itemKind) (items []item, iin dnp3.IIN) {
	list := o.points[k]
	find := func(index uint32) (int, bool) {
		return slices.BinarySearchFunc(list, index, func(p *point, i uint32) int { return int(p.Index) - int(i) })
	}
	variation := h.Variation
	if k == dnp3.OctetString {
		variation = 0
	}
	switch {
	case h.Qualifier == dnp3.All:
		if len(list) == 0 {
			return nil, 0
		}
		return []item{{kind: kind, of: k, variation: variation, to: len(list)}}, 0
	case h.Ranged():
		from, _ := find(h.Start)
		to, last := find(h.Start + h.Count - 1)
		if last {
			to++
		}
		if to-from != int(h.Count) {
			iin = dnp3.IINParameterError // not all of them are there: 4.4.4
		}
		if from < to {
			items = []item{{kind: kind, of: k, variation: variation, from: from, to: to}}
		}
	case h.Qualifier == dnp3.Count8 || h.Qualifier == dnp3.Count16:
		items = []item{{kind: kind, of: k, variation: variation, to: min(int(h.Count), len(list))}}
	default:
		for i := range h.Count {
			index := uint32(0)
			if h.Qualifier == dnp3.Index8 {
				index = uint32(body[i])
			} else if h.Qualifier == dnp3.Index16 {
				index = uint32(binary.LittleEndian.Uint16(body[2*i:]))
			}
			if at, found := find(index); found {
				items = append(items, item{kind: kind, of: k, variation: variation, from: at, to: at + 1})
			} else {
				iin = dnp3.IINParameterError
			}
		}
	}
	return items, iin
}

// attributes answers a request for device attributes; nil when it has none of them.
func (o *Outstation) attributes(h dnp3.Header) (items []item) {
	if h.Variation == dnp3.AttributeList {
		var list []byte
		for _, a := range o.config.Attributes {
			list = append(list, a.Variation, 0)
		}
		return []item{{kind: itemOctets, octets: dnp3.AppendAttribute(nil, dnp3.Attribute{Variation: dnp3.AttributeList, Type: 254, Data: list[:min(len(list), 254)]})}}
	}
	for _, a := range o.config.Attributes {
		if h.Variation == a.Variation || h.Variation == dnp3.AttributeAll {
			items = append(items, item{kind: itemOctets, octets: dnp3.AppendAttribute(nil, a)})
		}
	}
	return items
}

// carryOut does what a request wants and says what to answer.
func (o *Outstation) carryOut(now time.Time, f dnp3.Fragment) (items []item, iin dnp3.IIN) {
	if slices.Contains(o.config.Refuse, f.Function) {
		return nil, dnp3.IINNoFunction
	}
	objects := dnp3.ReadObjects(f.Objects, f.Function)
	switch f.Function {
	case dnp3.FuncRead:
		return o.read(now, objects)
	case dnp3.FuncWrite:
		return nil, o.write(now, objects)
	case dnp3.FuncSelect, dnp3.FuncOperate, dnp3.FuncDirectOperate, dnp3.FuncDirectOperateNR:
		return o.control(now, f)
	case dnp3.FuncFreeze, dnp3.FuncFreezeNR, dnp3.FuncFreezeClear, dnp3.FuncFreezeClearNR, dnp3.FuncFreezeAtTime, dnp3.FuncFreezeAtTimeNR:
		return nil, o.freeze(now, f)
	case dnp3.FuncColdRestart, dnp3.FuncWarmRestart:
		o.Restart()
		return []item{{kind: itemOctets, octets: dnp3.AppendDelay(nil, 500)}}, 0
	case dnp3.FuncEnableUnsolicited, dnp3.FuncDisableUnsolicited:
		if !o.config.Unsolicited {
			return nil, dnp3.IINNoFunction
		}
		for objects.Next() {
			if h := objects.Header; h.Group == 60 && h.Variation >= 2 && h.Variation <= 4 {
				o.enabled[h.Variation-1] = f.Function == dnp3.FuncEnableUnsolicited
			} else {
				iin |= dnp3.IINUnknownObject
			}
		}
		o.tries, o.pauseTo = 0, time.Time{}
		if len(o.events) > 0 {
			o.holdUntil = now
		}
		return nil, iin
	case dnp3.FuncAssignClass:
		return nil, o.assign(objects)
	case dnp3.FuncDelayMeasure:
		return []item{{kind: itemOctets, octets: dnp3.AppendDelay(nil, 0)}}, 0
	case dnp3.FuncRecordTime:
		o.recorded = now
		return nil, 0
	}
	return nil, dnp3.IINNoFunction
}

// write takes times, deadbands, strings, and the clearing of the restart indication.
func (o *Outstation) write(now time.Time, objects dnp3.Objects) (iin dnp3.IIN) {
	for objects.Next() {
		h, body := objects.Header, objects.Body
		switch {
		case h.Group == 50 && h.Variation == 1 && h.Count == 1 && h.Qualifier != dnp3.All:
			o.offset = dnp3.ReadTime(body).Go().Sub(now)
			o.needTime = false
		case h.Group == 50 && h.Variation == 3 && h.Count == 1 && !o.recorded.IsZero(): // what it was when the time was recorded: A.50.3
			o.offset = dnp3.ReadTime(body).Go().Sub(o.recorded)
			o.needTime, o.recorded = false, time.Time{}
		case h.Group == 80 && h.Ranged() && h.Start == 7 && h.Count == 1:
			if body[0]&1 != 0 {
				iin |= dnp3.IINParameterError // it can be cleared, not set
			} else {
				o.restart = o.stuck
			}
		case h.Group == 34:
			size, prefix := dnp3.Octets(34, h.Variation), h.Qualifier.Prefix()
			for i := range h.Count {
				index := uint16(h.Start + i)
				if prefix == 1 {
					index = uint16(body[0])
				} else if prefix == 2 {
					index = binary.LittleEndian.Uint16(body)
				}
				if p := o.point(dnp3.AnalogInput, index); p != nil {
					p.Deadband = dnp3.ReadDeadband(h.Variation, body[prefix:])
				} else {
					iin |= dnp3.IINParameterError
				}
				body = body[prefix+size:]
			}
		case h.Group == 110 && h.Ranged():
			size := int(h.Variation)
			for i := range h.Count {
				index := uint16(h.Start + i)
				if p := o.point(dnp3.OctetString, index); p != nil {
					o.Set(now, dnp3.OctetString, index, codec.TextValue(string(body[int(i)*size:(int(i)+1)*size])), p.Flags)
				} else {
					iin |= dnp3.IINParameterError
				}
			}
		default:
			iin |= dnp3.IINUnknownObject
		}
	}
	if objects.Err != nil {
		iin |= dnp3.IINParameterError
	}
	return iin
}

// assign gives points another class (4.4.9).
func (o *Outstation) assign(objects dnp3.Objects) (iin dnp3.IIN) {
	class := -1
	for objects.Next() {
		h := objects.Header
		if h.Group == 60 && h.Variation >= 1 && h.Variation <= 4 {
			class = int(h.Variation) - 1
			continue
		}
		kind, event := kindOf(h.Group)
		if kind == dnp3.NoKind || event || class < 0 {
			iin |= dnp3.IINUnknownObject
			continue
		}
		h.Variation = 0
		items, fault := o.staticsOf(h, objects.Body, kind, itemStatic)
		iin |= fault
		for _, it := range items {
			for _, p := range o.points[kind][it.from:it.to] {
				p.Class = class
			}
		}
	}
	return iin
}
