UPDATE tellings SET told = 'needs-action' WHERE told = 'wrong'
