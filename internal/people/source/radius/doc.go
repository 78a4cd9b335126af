// Package radius asks a RADIUS server (RFC 2865) whether a password is right, and carries its questions.
//
// Every request and every answer must carry a Message-Authenticator (RFC 3579, section 3.2): without it an answer can be
// forged on the way.
package radius
