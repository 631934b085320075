frontend "web" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" { # want: has no probe | with "auk" hung, 300 of 600 in a minute fail, and nothing notices
  backends = {
    auk    = "127.0.0.1:9001"
    gannet = "127.0.0.1:9002"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
