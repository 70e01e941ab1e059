package document

import (
	"encoding/json"
	"maps"
	"math"
	"slices"
	"strconv"

	"go.yaml.in/yaml/v3"
)

// Of is the document that a value would be as JSON, without writing it: maps, lists, texts, numbers, truths and nothing; of other types, what
// encoding/json makes of them.
func Of(v any) (*Node, error) {
	n, err := nodeOf(v, 0)
	if err != nil {
		return nil, err
	}
	return &Node{yaml: n}, nil
}

func nodeOf(v any, depth int) (*yaml.Node, error) {
	scalar := func(tag, value string) (*yaml.Node, error) {
		return &yaml.Node{Kind: yaml.ScalarNode, Line: 1, Tag: tag, Value: value}, nil
	}
	if depth > maxDepth {
		return nil, Faults{{Message: "is nested too deeply"}}
	}
	switch v := v.(type) {
	case nil:
		return scalar("!!null", "null")
	case string:
		if invalidUTF8([]byte(v)) >= 0 {
			return nil, Faults{{Value: shorten(v), Message: "is no UTF-8"}}
		}
		n, _ := scalar("!!str", v)
		n.Style = yaml.DoubleQuotedStyle
		return n, nil
	case bool:
		return scalar("!!bool", strconv.FormatBool(v))
	case int:
		return scalar("!!int", strconv.Itoa(v))
	case int64:
		return scalar("!!int", strconv.FormatInt(v, 10))
	case float64:
		switch size := math.Abs(v); {
		case math.IsInf(v, 0) || math.IsNaN(v): // which JSON refuses
		case v == math.Trunc(v) && size < 1e15:
			return scalar("!!int", strconv.FormatFloat(v, 'f', -1, 64))
		case size > 1e-6 && size < 1e15:
			return scalar("!!float", strconv.FormatFloat(v, 'f', -1, 64))
		}
	case map[string]any:
		n := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map", Line: 1, Content: make([]*yaml.Node, 0, 2*len(v))}
		for _, name := range slices.Sorted(maps.Keys(v)) {
			value, err := nodeOf(v[name], depth+1)
			if err != nil {
				return nil, err
			}
			key, err := nodeOf(name, depth+1)
			if err != nil {
				return nil, err
			}
			n.Content = append(n.Content, key, value)
		}
		return n, nil
	case []any:
		n := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq", Line: 1, Content: make([]*yaml.Node, 0, len(v))}
		for _, item := range v {
			value, err := nodeOf(item, depth+1)
			if err != nil {
				return nil, err
			}
			n.Content = append(n.Content, value)
		}
		return n, nil
	}
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return parseJSON(text)
}
