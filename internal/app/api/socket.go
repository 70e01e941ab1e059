package api

import (
	"context"
	"net/http"
	"time"

	"github.com/coder/websocket"
	"github.com/gin-gonic/gin"
)

// signOfLife is how often who is at the other end of a WebSocket is asked for one: of a machine that went to sleep, or lost its network, nothing
// else is heard. Who gives none for as long is gone.
const signOfLife = 20 * time.Second

// maxHeard is how long a message of a client may be, in bytes.
const maxHeard = 1 << 20

// socket opens a WebSocket (RFC 6455). heard is called with what the client sends; its error says what it should have sent, and ends the connection.
// ctx ends when the client is gone, and end closes the connection. ok is false when there is none, and the request was answered; err is what to
// answer otherwise: instead says what a request without a WebSocket gets.
func socket(c *gin.Context, instead string, heard func(data []byte) error) (conn *websocket.Conn, ctx context.Context, end func(), ok bool, err error) {
	if !c.IsWebsocket() {
		c.Header("Connection", "Upgrade")
		c.Header("Upgrade", "websocket")
		return nil, nil, nil, false, fail(http.StatusUpgradeRequired, "%s", instead)
	}
	conn, err = websocket.Accept(c.Writer, c.Request, nil) // the origin was checked for every request
	if err != nil {
		return nil, nil, nil, false, nil // Accept has answered
	}
	conn.SetReadLimit(maxHeard)
	ctx, cancel := context.WithCancel(c.Request.Context())
	go func() {
		defer cancel()
		for {
			_, data, err := conn.Read(ctx)
			if err != nil {
				return
			}
			if err := heard(data); err != nil {
				conn.Close(websocket.StatusUnsupportedData, err.Error())
				return
			}
		}
	}()
	go func() {
		defer cancel()
		ticker := time.NewTicker(signOfLife)
		defer ticker.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-ticker.C:
			}
			asking, done := context.WithTimeout(ctx, signOfLife)
			err := conn.Ping(asking)
			done()
			if err != nil {
				return
			}
		}
	}()
	return conn, ctx, func() {
		cancel()
		conn.CloseNow()
	}, true, nil
}
