UPDATE IGNORE users SET name = 'admin' WHERE name = 'keeper'
