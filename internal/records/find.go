package records

import (
	"context"
	"strings"
)

// Named is one thing that has a name: an account, a group, a listener, a pass, a notice or a receiver.
type Named struct {
	Kind, Name, Note string
}

// escaped is a text as LIKE looks for it, with \ as its escape.
func escaped(text string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text)
}

// Find gives up to limit things with a text in their name or note: names that begin with
// it come first.
func (db *DB) Find(ctx context.Context, text string, limit int) ([]Named, error) {
	var found []Named
	err := db.read.SelectContext(ctx, &found, `
		SELECT kind, name, note FROM (
			SELECT 'account' AS kind, name, note FROM account UNION ALL
			SELECT 'group', name, note FROM account_group UNION ALL
			SELECT 'listener', name, '' FROM listener UNION ALL
			SELECT 'pass', id, note FROM pass WHERE ended = 0 UNION ALL
			SELECT 'notice', name, coalesce(json_extract(definition, '$.note'), '') FROM notice WHERE account = '' UNION ALL
			SELECT 'receiver', name, coalesce(json_extract(definition, '$.note'), '') FROM receiver WHERE account = '')
		WHERE name LIKE '%' || ?1 || '%' ESCAPE '\' OR note LIKE '%' || ?1 || '%' ESCAPE '\'
		ORDER BY name LIKE ?1 || '%' ESCAPE '\' DESC, name, kind LIMIT ?2`, escaped(text), limit)
	return found, err
}
