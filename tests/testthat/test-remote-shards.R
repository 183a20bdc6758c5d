# One table on several servers against the same rows in one.

# SQLite connections that hold some of the rows each.
sqlite_shards <- function(data, parts, env = parent.frame()) {
  lapply(parts, function(rows) with_table("sqlite", data[rows, ], env = env))
}

shard_roles <- list(weight = "survey_weight", cluster = "harbour", id = "crew_id", estimand = "ATE")
frame_shards <- function(remote, ...) do.call(frame_crews, c(list(remote), shard_roles, list(...)))

test_that("sums over servers are those of one table, whatever each holds", {
  skip_if_not_installed("RSQLite")
  data <- plain_crews()
  shards <- remote_shards(sqlite_shards(data, list(north = 1:900, none = 0, east = 901:1000, south = 1001:2404)), "crews")
  expect_match(format(shards)[1], "crews on 4 servers", fixed = TRUE)
  one <- frame_shards(remote_units(with_table("sqlite", data), "crews"))
  many <- frame_shards(shards)
  expect_identical(many$size, one$size)
  expect_identical(many$cluster, one$cluster)
  designs <- lapply(list(many, one), function(study) weigh_units(score_units(study)))
  expect_lt(gap(tidy(assess_balance(designs[[1]]))$ks, tidy(assess_balance(designs[[2]]))$ks), 1e-9)
  expect_lt(gap(tidy(assess_overlap(designs[[1]]))[-(1:2)], tidy(assess_overlap(designs[[2]]))[-(1:2)]), 1e-9)
  expect_equal(assess_weights(designs[[1]])$heaviest, assess_weights(designs[[2]])$heaviest)
  for (estimator in c("difference", "augmented")) {
    effects <- lapply(designs, measure_effect, estimator = estimator)
    expect_lt(gap(tidy(effects[[1]])[c("estimate", "std.error")], tidy(effects[[2]])[c("estimate", "std.error")]), 1e-9)
  }
  expect_match(paste(format(effects[[1]]), collapse = " "), "Rows stay in SQLite \\(crews on 4\\s+servers\\)")
  strata <- lapply(list(many, one), function(study) stratify_units(score_units(study)))
  expect_equal(tidy(strata[[1]], part = "strata"), tidy(strata[[2]], part = "strata"))
  drawn <- fetch_units(shards, 300)
  expect_identical(names(drawn), names(data))
  expect_identical(nrow(drawn), 300L)
  expect_false(anyDuplicated(drawn$crew_id) > 0L)
  expect_identical(nrow(fetch_units(shards, 1e6)), nrow(data))
  expect_error(write_units(designs[[1]], shards$connection, table = "weights"), "several servers",
               class = "twin_error_unsupported")
})

test_that("shards that don't fit together are named", {
  skip_if_not_installed("RSQLite")
  data <- plain_crews()
  good <- with_table("sqlite", data[1:100, ])
  bad <- with_table("sqlite", data[101:200, setdiff(names(data), "gear")])
  expect_error(remote_shards(list(a = good, b = bad), "crews"), "\"b\" lacks some of.*gear", class = "twin_error_input")
  expect_error(remote_shards(list(a = good, a = bad), "crews"), "name of its own", class = "twin_error_input")
  expect_error(remote_shards(list(), "crews"), "list of functions that connect", class = "twin_error_input")
  expect_error(remote_shards(c("host=a", "host=b"), "crews"), "coordinator", class = "twin_error_input")
  expect_error(remote_shards(list(function() stop("refused for user=bob")), "crews"), "shard 1.*refused for user \\.\\.\\.",
               class = "twin_error_database")
  expect_error(remote_shards(list(good), "crew"), "Did you mean \"crews\"", class = "twin_error_input")
  expect_error(remote_shards(list(good), "crews", timeout = 0), "timeout", class = "twin_error_input")
  # a server that fails is asked three times
  asked <- 0
  source <- remote_shards(list(good = good), "crews")
  source$shards[[1]]$receive <- function() {
    asked <<- asked + 1
    if (asked < 3) stop("busy") else data.frame(n = 100)
  }
  expect_equal(carefultwin:::count_where(source, character()), 100)
  expect_identical(asked, 3)
  source$shards[[1]]$receive <- function() stop("away")
  expect_error(carefultwin:::count_where(source, character()), "\"good\" did not answer.*away", class = "twin_error_database")
})

test_that("a server that does not answer in time is named", {
  skip_if_not_installed("callr")
  file <- withr::local_tempfile(fileext = ".sqlite")
  connection <- DBI::dbConnect(RSQLite::SQLite(), file)
  DBI::dbWriteTable(connection, "crews", plain_crews()[1:50, ])
  withr::defer(DBI::dbDisconnect(connection))
  quick <- function() DBI::dbConnect(RSQLite::SQLite(), file)
  slow <- function() {
    Sys.sleep(60)
    quick()
  }
  expect_error(remote_shards(list(here = connection, far = slow), "crews", timeout = 1),
               "\"far\" did not answer.*no answer within 1 second", class = "twin_error_database")
  both <- remote_shards(list(a = quick, b = quick), "crews", timeout = 60)
  expect_equal(carefultwin:::count_where(both, character()), 100)
})

test_that("real servers answer at once; one that is killed in the middle is named", {
  skip_if_not_installed("callr")
  servers <- lapply(c("one", "two", "three"), postgres_server)
  if (any(vapply(servers, is.null, NA))) skip("PostgreSQL is not installed here (tools/setup test installs it on Debian)")
  data <- plain_crews()
  for (k in 1:3) {
    connection <- servers[[k]]$connect()
    DBI::dbWriteTable(connection, "crews", data[seq_len(nrow(data)) %% 3 == k - 1, ], row.names = FALSE)
    DBI::dbDisconnect(connection)
  }
  local <- weigh_units(score_units(frame_shards(data)))
  expect_all_same <- function(remote) {
    design <- weigh_units(score_units(frame_shards(remote)))
    expect_same_effect(design, local, "income", "augmented")
    expect_lt(gap(tidy(assess_overlap(design))[-(1:2)], tidy(assess_overlap(local))[-(1:2)]), 1e-8)
    design
  }
  own <- expect_all_same(remote_shards(lapply(stats::setNames(servers, c("a", "b", "c")), `[[`, "connect"), "crews",
                                       timeout = 60))
  coordinator <- servers[[1]]$connect()
  withr::defer(DBI::dbDisconnect(coordinator))
  if ("dblink" %in% DBI::dbGetQuery(coordinator, "SELECT name FROM pg_available_extensions")$name) {
    DBI::dbExecute(coordinator, "CREATE EXTENSION IF NOT EXISTS dblink")
    where <- sprintf("host=127.0.0.1 port=%d user=twin dbname=postgres", vapply(servers, `[[`, 0L, "port"))
    names(where) <- c("x", "y", "z")
    linked <- remote_shards(where, "crews", coordinator = coordinator)
    expect_all_same(linked)
    cells <- lapply(list(linked, data), function(x) {
      group_units(frame_shards(x), "coarsened", covariates = c("past_income", "gear"), bins = list(past_income = 12))
    })
    expect_same_effect(cells[[1]], cells[[2]], "income")
    expect_identical(vapply(linked$columns, function(column) class(column)[1], ""),
                     vapply(data, function(column) sub("integer", "numeric", class(column)[1]), ""))
    expect_error(remote_shards(where, "crew", coordinator = coordinator), "no table \"crew\" on the server \"x\"",
                 class = "twin_error_input")
    expect_error(remote_shards(where, DBI::SQL("SELECT 1"), coordinator = coordinator), "name of a table",
                 class = "twin_error_unsupported")
  }
  servers[[2]]$stop()
  said <- expect_error(measure_effect(own, estimator = "regression"), "server \"b\" did not answer", class = "twin_error_database")
  expect_false(grepl("twin@|127\\.0\\.0\\.1", conditionMessage(said)))
})
