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
  probe "tcp" { # want: probed by opening their port only | of ten requests a second with "auk" hung, 300 of 600 in a minute fail, and nothing notices
    every = "3s"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
