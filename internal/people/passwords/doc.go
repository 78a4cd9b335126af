// Package passwords hashes passwords and compares them with their hashes, the service's own and those that accounts brought from
// elsewhere; it says which are strong enough, and makes some that are.
package passwords
