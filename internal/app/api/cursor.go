package api

import (
	"encoding/base64"
	"encoding/binary"
	"hash/crc32"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"
)

// cursorOf is the cursor of what follows something. It has a checksum, so that one that this service did not give is refused.
func cursorOf(of string) string {
	sum := binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE([]byte(of)))
	return base64.RawURLEncoding.EncodeToString(append(sum, of...))
}

// readCursor is what a cursor was made of.
func readCursor(cursor string) (of string, err error) {
	b, err := base64.RawURLEncoding.DecodeString(cursor)
	if err != nil || len(b) < 4 || binary.BigEndian.Uint32(b) != crc32.ChecksumIEEE(b[4:]) {
		return "", fail(http.StatusBadRequest, "cursor=%s: that is none this service gave; begin without one", cursor)
	}
	return string(b[4:]), nil
}

// page reads limit and cursor; after is what the cursor was made of, "" without one.
func page(c *gin.Context) (limit int, after string, err error) {
	limit = 1000
	if text := c.Query("limit"); text != "" {
		limit, _ = strconv.Atoi(text) // the query was checked
	}
	if cursor := c.Query("cursor"); cursor != "" {
		after, err = readCursor(cursor)
	}
	return limit, after, err
}

// recordCursor reads the cursor of a list of records, an id.
func recordCursor(c *gin.Context) (limit int, before int64, err error) {
	limit, after, err := page(c)
	if err != nil || after == "" {
		return limit, 0, err
	}
	if before, err = strconv.ParseInt(after, 10, 64); err != nil || before < 1 {
		return 0, 0, fail(http.StatusBadRequest, "cursor=%s: it is of another list", c.Query("cursor"))
	}
	return limit, before, nil
}

// part is the page of a whole list that the query asks for, and the cursor of the next.
func part[E any](c *gin.Context, all []E) (list []E, next string, err error) {
	limit, after, err := page(c)
	if err != nil {
		return nil, "", err
	}
	from := 0
	if after != "" {
		if from, err = strconv.Atoi(after); err != nil || from < 0 {
			return nil, "", fail(http.StatusBadRequest, "cursor=%s: it is of another list", c.Query("cursor"))
		}
	}
	from = min(from, len(all))
	to := min(from+limit, len(all))
	if to < len(all) {
		next = cursorOf(strconv.Itoa(to))
	}
	return all[from:to], next, nil
}
