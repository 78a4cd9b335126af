-- Where an account has grants of its own on a folder, those of its groups on the same
-- folder no longer count beside them. What an account may do stays as it was: the
-- groups' grants become its own there.
UPDATE account SET grants = (
  SELECT json_group_array(json(value)) FROM (
    SELECT own.value FROM json_each(account.grants) AS own
    UNION ALL
    SELECT theirs.value FROM json_each(account.groups) AS member
      JOIN account_group ON account_group.name = member.value
      JOIN json_each(account_group.grants) AS theirs
      WHERE json_extract(theirs.value, '$.path') IN (SELECT json_extract(value, '$.path') FROM json_each(account.grants))))
WHERE EXISTS (
  SELECT 1 FROM json_each(account.groups) AS member
    JOIN account_group ON account_group.name = member.value
    JOIN json_each(account_group.grants) AS theirs
    JOIN json_each(account.grants) AS own ON json_extract(own.value, '$.path') = json_extract(theirs.value, '$.path'));
