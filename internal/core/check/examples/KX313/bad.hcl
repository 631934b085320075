frontend "web" {
  listen = "0.0.0.0:7000"
  protocol = "tcp"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  algorithm = "hash"
  hash { # want: "app" hashes by path, and only tcp frontends send to it
    key = "path"
  }
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "tcp" {
    every = "2s"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
