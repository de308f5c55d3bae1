package api

import (
	"net/http"

	"beacon/core/access"
	"beacon/wire"
)

// routesOfUsers are those of users and their sessions.
func routesOfUsers() []route {
	return []route{
		{method: "POST", effect: writes, path: "/sessions", summary: "Sign in", in: wire.SignIn{}, out: wire.SignedIn{}, status: http.StatusCreated, handle: startSession},
		{method: "POST", effect: writes, path: "/first-user", summary: "Make the first user, by the link that the first start printed; it works once", in: wire.FirstUser{}, out: wire.UserMade{}, status: http.StatusCreated, handle: func(k *call) (any, error) {
			if err := k.onlyJSON(); err != nil {
				return nil, err
			}
			var in wire.FirstUser
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Users.TakeFirstCode(k.Request.Context(), in, k.from())
		}},
		{method: "DELETE", effect: writes, path: "/sessions/current", summary: "Sign out", needs: signedIn, status: http.StatusNoContent, handle: endSession},
		{method: "GET", effect: looks, path: "/sessions/current", summary: "The signed-in user; an empty name if there is none", out: wire.Me{}, status: http.StatusOK, handle: currentSession},
		{method: "GET", effect: looks, path: "/me", summary: "Who asks, and what it may do", needs: signedIn, out: wire.Me{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			return k.me(), nil
		}},
		{method: "GET", effect: looks, path: "/users", summary: "Users", needs: access.Users, out: wire.Page[wire.UserView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			list, err := k.svc.Users.Users(k.Request.Context(), k.caller)
			return wire.Page[wire.UserView]{Items: list}, err
		}},
		{method: "POST", effect: writes, path: "/users", summary: "Add a user, with its grants; the password is shown once", needs: access.Users, secret: true, in: wire.NewUser{}, out: wire.UserAdded{}, status: http.StatusCreated, handle: func(k *call) (any, error) {
			var in wire.NewUser
			if err := k.body(&in); err != nil {
				return nil, err
			}
			password, err := k.svc.Users.AddUser(k.Request.Context(), k.caller, in)
			return wire.UserAdded{Name: in.Name, Password: password}, err
		}},
		{method: "DELETE", effect: writes, path: "/users/:name", summary: "Remove a user; its sessions and tokens end, what it made stays", needs: access.Users, status: http.StatusNoContent, handle: func(k *call) (any, error) {
			return nil, k.svc.Users.Remove(k.Request.Context(), k.caller, k.Param("name"))
		}},
		{method: "PUT", effect: writes, path: "/users/:name/grants", summary: "Change what a user may do", needs: access.Users, in: wire.GrantsChange{}, status: http.StatusNoContent, handle: func(k *call) (any, error) {
			var in wire.GrantsChange
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return nil, k.svc.Users.SetGrants(k.Request.Context(), k.caller, k.Param("name"), in.Grants)
		}},
		{method: "PUT", effect: writes, path: "/users/current/password", summary: "Change your own password; your other sessions end", needs: signedIn, in: wire.PasswordChange{}, status: http.StatusNoContent, handle: func(k *call) (any, error) {
			var in wire.PasswordChange
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return nil, k.svc.Users.ChangePassword(k.Request.Context(), k.caller, k.token, in, k.from())
		}},
		{method: "GET", effect: looks, path: "/users/current/sessions", summary: "Your own sessions, newest first", needs: signedIn, out: wire.Page[wire.Session]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			list, err := k.svc.Users.Sessions(k.Request.Context(), k.caller, k.token)
			return wire.Page[wire.Session]{Items: list}, err
		}},
		{method: "DELETE", effect: writes, path: "/users/current/sessions/:id", summary: "End one of your own sessions", needs: signedIn, status: http.StatusNoContent, handle: func(k *call) (any, error) {
			id, err := k.number("id", "a session")
			if err != nil {
				return nil, err
			}
			return nil, k.svc.Users.EndSession(k.Request.Context(), k.caller, id)
		}},
	}
}

// routesOfTokens are those of tokens for machines.
func routesOfTokens() []route {
	return []route{
		{method: "GET", effect: looks, path: "/tokens", summary: "Tokens of machines and dynamic hosts, without their texts: your own, or all for those who may manage users", needs: signedIn, out: wire.Page[wire.TokenView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			list, err := k.svc.Users.Tokens(k.Request.Context(), k.caller)
			return wire.Page[wire.TokenView]{Items: list}, err
		}},
		{method: "POST", effect: writes, path: "/tokens", summary: "Create a token for a machine, with grants no wider than your own; its text is shown once", needs: signedIn, secret: true, in: wire.NewToken{}, out: wire.TokenMade{}, status: http.StatusCreated, handle: func(k *call) (any, error) {
			var in wire.NewToken
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Users.AddToken(k.Request.Context(), k.caller, in)
		}},
		{method: "POST", effect: writes, path: "/tokens/:name/renewals", summary: "Give a token, or that of a dynamic host, another text, which is shown once; the one until now stays valid for the overlap", needs: signedIn, secret: true, in: wire.TokenRenewal{}, out: wire.TokenMade{}, status: http.StatusCreated, handle: func(k *call) (any, error) {
			var in wire.TokenRenewal
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Users.RenewToken(k.Request.Context(), k.caller, k.Param("name"), in)
		}},
		{method: "DELETE", effect: writes, path: "/tokens/:name", summary: "Revoke a token immediately", needs: signedIn, status: http.StatusNoContent, handle: func(k *call) (any, error) {
			return nil, k.svc.Users.RevokeToken(k.Request.Context(), k.caller, k.Param("name"))
		}},
	}
}
