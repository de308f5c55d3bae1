UPDATE domains SET verdict = 'needs-action' WHERE verdict = 'wrong'
