// Package api has the shapes that go over HTTP, as openapi.yaml describes them.
// The server writes them and the command line reads them. It must not know either.
package api
