frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  algorithm = "hash"
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
    petrel = "192.0.2.13:8080"
  }
  probe "http" {
    path = "/ready"
  }
  hash { # want: "app" uses modulo, and its backends change | with "auk" out,
    method = "modulo"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
