// Package users knows who may use the service: users with their passwords, the sessions they sign in to, and the tokens that
// requests carry. Passwords are kept as argon2id, tokens as SHA-256 (the tables are in store/users.go); nothing here can be read back.
package users
