frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  algorithm = "first-fit"
  backends = {
    auk    = "192.0.2.11:8080" # want: has no max_in_flight | served by 1 of 2
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
