frontend "web" {
  listen = "0.0.0.0:8080"
  route "moved" {
    when {
      path = "/old/**"
    }
    redirect { # want: the redirect of "moved" leads back to itself | GET http://tern.example/old, then 301 to /old
      to     = "/old/new"
      status = 301
    }
  }
  route "rest" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
