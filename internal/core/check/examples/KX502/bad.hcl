frontend "web" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "127.0.0.1:9001"
    gannet = "127.0.0.1:9002"
  }
  probe "http" {
    path = "/ready"
  }
  retry { # want: may make a client wait 1m30s | 3 attempts, each up to 30 s
    attempts = 3
  }
}
