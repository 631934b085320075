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
  probe "http" { # want: as visitors do | 720 times an hour
    every = "5s"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
