// Package hostkey keeps the keys by which SSH clients know the service: made at
// first start, imported, announced to clients before they are used, retired. It
// knows no protocol and no operator.
package hostkey
