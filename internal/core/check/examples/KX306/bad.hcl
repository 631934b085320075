frontend "web" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  algorithm = "hash" # want: hashes the client's address | of 100 clients behind a proxy on 127.0.0.1, 100 go to
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
