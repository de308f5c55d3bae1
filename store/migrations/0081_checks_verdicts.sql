UPDATE checks SET verdict = 'needs-action' WHERE verdict = 'wrong'
