// Package portal is the web face for account holders: they sign in with a browser and work on the same
// tree as with any transfer client. It knows no operator and no records.
package portal
