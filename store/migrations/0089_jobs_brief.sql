UPDATE IGNORE jobs SET kind = 'brief' WHERE kind = 'glance'
