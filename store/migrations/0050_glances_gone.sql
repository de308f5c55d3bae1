DROP TABLE glances
