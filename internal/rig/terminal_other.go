//go:build !unix

package rig

import (
	"errors"
	"os"
)

func openTerminal() (near, far *os.File, err error) {
	return nil, nil, errors.New("this system has no pseudo-terminals, so the rig has no serial lines here")
}
