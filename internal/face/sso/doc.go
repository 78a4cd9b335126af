// Package sso is where providers of single sign-on send browsers back to, and read what they must know of the service.
package sso
