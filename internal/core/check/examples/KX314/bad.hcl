frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  algorithm = "first-fit"
  backends = {
    auk    = { address = "192.0.2.11:8080", max_in_flight = 10, weight = 2 } # want: "auk" has weight 2, and first-fit ignores weights | the first of 100 requests at once goes to "auk"
    gannet = { address = "192.0.2.12:8080", max_in_flight = 10 }
    petrel = { address = "192.0.2.13:8080", max_in_flight = 10 }
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
