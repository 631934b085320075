frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  sticky { # want: the secret of "app" is easy to guess | words that are tried first
    by     = "cookie"
    secret = "changeme-changeme-1"
  }
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
