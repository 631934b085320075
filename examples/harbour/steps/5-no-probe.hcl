# Nobody looks after the backends: kestrix check warns of it.

frontend "tickets" {
  listen = ["127.0.0.1:8080"]

  route "all" {
    send_to = upstream.booking
  }
}

upstream "booking" {
  algorithm = "round-robin"

  backends = {
    auk    = "127.0.0.1:9101"
    gannet = "127.0.0.1:9102"
    petrel = "127.0.0.1:9103"
  }

  timeouts {
    connect = "1s"
    answer  = "10s"
  }
}
