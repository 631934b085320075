# Pictures of ships come from caches: one path stays with one cache, and none is
# given much more than its share.
frontend "pictures" {
  listen = "192.0.2.2:8080"

  limits {
    body_size = "64KiB"
  }

  route "pictures" {
    when {
      host   = "pictures.tern.example"
      path   = "/ships/**"
      method = ["GET", "HEAD"]
    }
    send_to = upstream.caches

    headers {
      answer {
        set    = { "X-Content-Type-Options" = "nosniff" }
        remove = ["Server"]
      }
    }
  }

  route "nothing-else" {
    reply {
      status       = 404
      body         = "there is no such picture\n"
      content_type = "text/plain"
    }
  }
}

upstream "caches" {
  algorithm = "hash"

  backends = {
    auk    = "192.0.2.91:8080"
    gannet = "192.0.2.92:8080"
    petrel = { address = "192.0.2.93:8080", weight = 2 }
    skua   = "192.0.2.94:8080"
  }

  hash {
    key    = "path"
    method = "ring"
    bound  = 1.25
  }

  probe "http" {
    path       = "/cache/ready"
    every      = "2s"
    timeout    = "1s"
    jitter     = "10%"
    down_after = 3
    up_after   = 3
  }

  retry {
    attempts = 2
    on       = ["connect", "reset", "timeout"]
    budget   = "20%"
  }

  timeouts {
    connect = "500ms"
    answer  = "4s"
  }
}
