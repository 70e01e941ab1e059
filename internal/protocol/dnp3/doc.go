// Package dnp3 is the octets of DNP3 (IEEE 1815-2012): frames of the data link layer, segments of the transport function,
// fragments and objects of the application layer. It knows no connection, no clock and no state beyond a reassembly; those
// who talk are in the packages master and outstation.
//
// All numbers go over the wire with their low octet first.
package dnp3
