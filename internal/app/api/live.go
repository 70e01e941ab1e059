package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/gin-gonic/gin"

	"arithmon/internal/live/table"
)

// Live messages come at most this often, each with at most so many readings; the more there are, the longer the pause.
const (
	liveEvery = 15 * time.Millisecond
	liveEach  = 50 * time.Microsecond
	liveBatch = 1000
)

// live sends readings as they change. A client that reads slowly gets the newest ones, not all.
func (s *Server) live(c *gin.Context) error {
	wanted := make(chan []string, 1)
	wanted <- c.QueryArray("tag")
	conn, ctx, end, ok, err := socket(c, "readings are followed over a WebSocket (RFC 6455); /api/v1/readings gives the newest in one response", func(data []byte) error {
		var request LiveRequest
		if err := json.Unmarshal(data, &request); err != nil {
			return errors.New("send {\"tags\": [...]}")
		}
		select { // the newest request counts
		case <-wanted:
		default:
		}
		wanted <- request.Tags
		return nil
	})
	if !ok {
		return err
	}
	defer end()
	only, own := principal(c).Only, s.seesOwn(c)
	var subscription *table.Subscription
	defer func() {
		if subscription != nil {
			subscription.Close()
		}
	}()
	var list []table.Live
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-s.closing:
			conn.Close(websocket.StatusGoingAway, "the service ends")
			return nil
		case tags := <-wanted:
			if subscription != nil {
				subscription.Close()
			}
			subscription = s.engine.Subscribe(tags...)
		case <-subscription.Ready():
			clear(list)
			list = subscription.Take(list[:0])
			if s.send(ctx, conn, slices.DeleteFunc(list, func(l table.Live) bool { return !own(l.Point.Tag) && !only.Tag(l.Point.Tag, l.Point.Station) })) != nil {
				return nil
			}
			select {
			case <-ctx.Done():
			case <-s.closing:
			case <-time.After(max(liveEvery, time.Duration(len(list))*liveEach)):
			}
		}
	}
}

// messages is room for what is sent.
var messages = sync.Pool{New: func() any { return new(bytes.Buffer) }}

func (s *Server) send(ctx context.Context, conn *websocket.Conn, list []table.Live) error {
	room := messages.Get().(*bytes.Buffer)
	defer messages.Put(room)
	for len(list) > 0 {
		n := min(len(list), liveBatch)
		room.Reset()
		if err := s.encodings.message(room, list[:n]); err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
		err := conn.Write(ctx, websocket.MessageText, room.Bytes())
		cancel()
		if err != nil {
			return err
		}
		list = list[n:]
	}
	return nil
}
