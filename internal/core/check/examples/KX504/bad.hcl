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
    petrel = "192.0.2.13:8080"
  }
  probe "http" {
    path = "/ready"
  }
  retry { # want: "app" retries without a budget | 100 requests become 300
    attempts = 3
    on       = ["connect"]
  }
}
