"""Single sign-on: people sign in with an OpenID Connect provider."""
