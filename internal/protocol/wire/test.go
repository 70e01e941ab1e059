package wire

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/asn1"
	"fmt"

	"arithmon/internal/core/site"
)

// Test opens a link once and says what was found: more over TCP than where nothing answers to that.
func Test(ctx context.Context, link site.Link) (string, error) {
	if link.Transport == site.Dialup {
		modem, err := OpenModem(ctx, link, func(string) {})
		if err != nil {
			return "", err
		}
		modem.Close()
		return link.FarEnd() + " has a modem, which is ready; whether a station answers its call, the station's test tells", nil
	}
	if link.Listen != "" {
		listener, err := Listen(ctx, link)
		if err != nil {
			return "", err
		}
		listener.Close()
		return "this machine can listen at " + link.Listen + "; whether a station calls in, its test tells", nil
	}
	conn, err := Open(ctx, link)
	if err != nil {
		return "", err
	}
	defer conn.Close()
	switch link.Transport {
	case site.Serial:
		return link.FarEnd() + " opens; whether anything answers on the line, a station's test tells", nil
	case site.UDP:
		return link.FarEnd() + " has a route; UDP connects to nothing, so whether anything answers, a station's test tells", nil
	}
	text := link.FarEnd() + " takes connections"
	if secured, ok := conn.(*tls.Conn); ok {
		text += " over " + secrets(secured.ConnectionState(), link)
	}
	return text, nil
}

// secrets says who is at the two ends of a secured connection.
func secrets(state tls.ConnectionState, link site.Link) string {
	text := tls.VersionName(state.Version)
	if len(state.PeerCertificates) > 0 {
		peer := state.PeerCertificates[0]
		text += fmt.Sprintf("; the server is %s, its certificate is valid until %s", peer.Subject, peer.NotAfter.UTC().Format("2006-01-02"))
		if role := Role(peer); role != "" {
			text += ", role " + role
		}
	}
	if config, err := tlsConfig(link); err == nil && len(config.Certificates) > 0 {
		if own, err := x509.ParseCertificate(config.Certificates[0].Certificate[0]); err == nil {
			text += fmt.Sprintf("; our certificate is %s", own.Subject)
			if role := Role(own); role != "" {
				text += ", role " + role
			} else {
				text += ", without a role"
			}
		}
	}
	return text
}

// RoleOID is the certificate extension that names a role (MODBUS/TCP Security V21, 8.4).
var RoleOID = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 50316, 802, 1}

// Role is the role that a certificate names, "" for none.
func Role(cert *x509.Certificate) string {
	for _, e := range cert.Extensions {
		var role string
		if e.Id.Equal(RoleOID) {
			if _, err := asn1.Unmarshal(e.Value, &role); err == nil {
				return role
			}
		}
	}
	return ""
}
