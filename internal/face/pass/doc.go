// Package pass is the page of a pass: what somebody without an account sees who has a link, in a browser of any age, or
// with curl. It knows nothing but what a visit lets it have of the account's tree.
package pass
