// Package web is the REST API under /api/v1, the live event stream and the
// embedded console, over HTTP and over the control socket.
//
// Handlers return an error; one function writes the response for it. The shapes
// are those of package api, which openapi.yaml describes. It decides nothing:
// changes go to package office. It does not know the protocols, and opens no stored file.
package web
