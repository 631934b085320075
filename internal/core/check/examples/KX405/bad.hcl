frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
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
  sticky { # want: the seats of "app" end after 5m | of 100 clients that return after 5m01s
    by     = "cookie"
    secret = "a line that only the proxies know"
    ttl    = "5m"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
