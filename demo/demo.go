// Package demo holds the Merrowfen scenario: an invented drainage district, its devices and its point database.
package demo

import _ "embed"

// Rig is the rig file: what is simulated.
//
//go:embed merrowfen.yaml
var Rig []byte

// Site is the site file: the points.
//
//go:embed site.yaml
var Site []byte
