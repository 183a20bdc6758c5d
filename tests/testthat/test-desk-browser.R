# The desk in a real browser: chromium, spoken to as helper-browser.R does.

skip_if_not_installed("shiny")
browser <- open_browser()
skip_if(is.null(browser), "no browser here (chromium and chromium-driver)")
withr::defer(browser$close(), teardown_env())

# What stands behind a download link of the page.
fetched <- function(browser, id, file = tempfile()) {
  href <- function() browser$run(sprintf("return document.querySelector('#%s').href", id))
  await(function() grepl("/download/", href()), "the link")
  curl::curl_download(href(), file, quiet = TRUE)
  file
}

# The page's plan, run on the command line, gives the page's tables byte for byte; their names.
tables_made_again <- function(browser, data) {
  folder <- withr::local_tempdir()
  utils::untar(fetched(browser, "results_file"), exdir = folder, tar = "internal")
  plan <- fetched(browser, "plan_file", file.path(folder, "plan.yml"))
  file.copy(system.file("extdata", data, package = "carefultwin"), folder)
  expect_identical(twin("run", plan, "--out", file.path(folder, "again"))$status, 0L)
  places <- file.path(folder, c("results", "again"), "tables")
  tables <- list.files(places[1L], "[.]csv$")
  expect_identical(tables, list.files(places[2L], "[.]csv$"))
  for (table in tables) {
    expect_identical(readLines(file.path(places[1L], table)), readLines(file.path(places[2L], table)), label = table)
  }
  tables
}

# A desk of its own with a file of the package uploaded.
desk_with <- function(data, env = parent.frame()) {
  desk <- start_desk()
  withr::defer(desk$close(), env)
  browser$go(desk$address)
  see(browser, "A file of units")
  browser$keys("#file", system.file("extdata", data, package = "carefultwin"))
}

# A plan whose search of a metric would take minutes.
slow_plan <- function() {
  folder <- withr::local_tempdir(.local_envir = parent.frame())
  file.copy(system.file("extdata", "crews.csv", package = "carefultwin"), folder)
  plan <- file.path(folder, "plan.yml")
  writeLines(c("study: {data: crews.csv, treatment: joined, outcome: income, covariates: [boat_length, past_income]}",
               "designs:", "  slow: [{search: {generations: 400, population: 400}}, {pair: {on: metric}}]"), plan)
  plan
}

test_that("the whole job, from a file to the report; its plan gives the same numbers on the command line", {
  desk <- start_desk()
  withr::defer(desk$close())
  browser$go(desk$address)
  see(browser, "A file of units")
  browser$keys("#file", withr::local_tempfile(fileext = ".csv", lines = ""))
  see(browser, "either empty", "#question")
  browser$keys("#file", system.file("extdata", "crews.csv", package = "carefultwin"))
  see(browser, "What did", "#question")
  see(browser, "612 treated, 1,792 control", "#rail")
  browser$choose("#outcome", "income")
  browser$run("var keep = ['boat_length', 'crew_size', 'past_income', 'port_size'];
               document.querySelectorAll('#covariates input').forEach(e => {
                 if (e.checked !== keep.includes(e.value)) e.click() })")
  see(browser, "port_size\n", "#report pre")
  await(function() !grepl("market_km", browser$text("#report pre")), "the columns to be taken away")
  browser$run("document.querySelectorAll('details').forEach(e => { e.open = true })")
  browser$click("#add_design")
  see(browser, "1 of 1 design balanced", "#rail")
  browser$choose("#added_kind", "weights")
  see(browser, "Cut weights above", "#designs")
  browser$click("#add_design")
  see(browser, "2 of 2 designs balanced", "#rail")
  expect_match(browser$text("#effects"), "The outcome is still sealed; 2 designs tried so far")
  browser$click("#open")
  see(browser, "3 estimates", "#rail")
  expect_true(browser$run("return document.querySelector('#estimator-1-3').disabled"))
  expect_match(browser$text("#effects"), "works on scores and weights, not on pairs")
  browser$click("#estimator-2-3")
  see(browser, "4 estimates", "#rail")
  browser$click("#probed-2")
  see(browser, "1 probe", "#rail")
  browser$click("#make_report")
  see(browser, "All results", "#report")
  expect_no_match(browser$text("#report"), "before its last change")
  expect_gt(file.size(fetched(browser, "report_file")), 1e5)
  expect_gte(length(tables_made_again(browser, "crews.csv")), 5L)
  expect_match(readLines(fetched(browser, "script_file")), "measure_effect(designs[[\"weights\"]], estimator = \"augmented\")",
               fixed = TRUE, all = FALSE)
  browser$click("#probed-2")
  see(browser, "before its last change", "#report")
})

test_that("work goes on after a reload and in two tabs, can be undone, and is saved; the keyboard is enough", {
  desk <- start_desk("demo = TRUE")
  withr::defer(desk$close())
  browser$go(desk$address)
  see(browser, "2 of 2 designs balanced", "#rail")
  browser$run("document.querySelector('#designs button.btn').click()")
  see(browser, "1 of 1 design balanced", "#rail")
  browser$go(desk$address)
  see(browser, "1 of 1 design balanced", "#rail")
  browser$click("#undo")
  see(browser, "2 of 2 designs balanced", "#rail")
  browser$click("#redo")
  see(browser, "1 of 1 design balanced", "#rail")
  other <- open_browser()
  withr::defer(other$close())
  other$go(desk$address)
  see(other, "1 of 1 design balanced", "#rail")
  other$click("#undo")
  see(browser, "2 of 2 designs balanced", "#rail")
  for (k in seq_len(80)) {
    browser$press("\uE004")
    if (identical(browser$run("return document.activeElement.id"), "open")) break
  }
  expect_lt(k, 80)
  browser$press("\uE007")
  see(browser, "3 estimates", "#rail")
  browser$click("#undo")
  see(browser, "the outcome has been seen", "#effects")
  browser$click("#redo")
  browser$choose("#estimand", "ATE")
  see(browser, "ATE", "#answer_question")
  see(browser, "2 designs before, 1 after", "#effects")  # pairs have no such effect, and the page says so
  see(browser, "could not be made", "#effects")
})

test_that("a graph is drawn by keyboard, a cut is moved, help and another plan are at hand", {
  desk <- start_desk("demo = TRUE")
  withr::defer(desk$close())
  browser$go(desk$address)
  see(browser, "2 of 2 designs balanced", "#rail")
  browser$click("#start_graph")
  see(browser, "covariates suffice", "#rail")
  press_node <- function(name, key = "\uE007") {
    browser$run(sprintf("document.querySelector('[data-node=\"%s\"]').focus()", name))
    browser$press(key)
  }
  arrows <- function() browser$run("return document.querySelectorAll('.graph .edge').length")
  press_node("income")
  expect_identical(browser$run("return document.querySelector('[data-node=income]').getAttribute('aria-pressed')"), "true")
  press_node("gear")
  see(browser, "no cycle", "#assumptions")
  press_node("gear")
  press_node("income", " ")
  await(function() identical(arrows(), 16L), "the arrow to be taken out")
  expect_identical(browser$run("return document.activeElement.dataset.node"), "income")
  press_node("gear", "\uE017")
  await(function() identical(arrows(), 15L), "the node to be gone")
  browser$keys("#new_unobserved", "mood")
  browser$click("#add_node")
  await(function() grepl("not observed", browser$run("return document.querySelector('.graph').textContent")), "the node")
  press_node("mood")
  press_node("joined")
  see(browser, "covariates suffice", "#rail")
  press_node("mood")
  press_node("income")
  see(browser, "covariates do not suffice", "#rail")
  browser$click("#drop_graph")
  see(browser, "not drawn", "#rail")
  browser$run("document.querySelectorAll('details').forEach(e => { e.open = true })")
  browser$run("document.querySelector('#cut_low').value = 0.1;
               document.querySelector('#cut_low').dispatchEvent(new Event('input', {bubbles: true}))")
  see(browser, "Scores from 0.1 to 1", "#score")
  expect_match(browser$text(".cut-words"), "5[0-9]+ of 612 treated and 1,[0-9]+ of 1,792 control units stay")
  browser$click("#cut_here")
  see(browser, "rule: range", "#report pre")
  browser$choose("#design-1-caliper", "0.15")
  see(browser, "caliper: 0.15", "#report pre")
  see(browser, "What these words", "#help_designs")
  browser$click("#help_designs summary")
  see(browser, "Standardised mean difference|Description", "#help_designs")
  other <- withr::local_tempfile(fileext = ".yml", lines = sub("caliper: 0.15", "caliper: 0.1", readLines(fetched(browser, "plan_file"))))
  browser$keys("#other_plan", other)
  see(browser, "caliper", "#answer_comparison")
  browser$choose("#title", "Who joined")
  see(browser, "title: Who joined", "#report pre")
})

test_that("a panel goes from the file to its report, whose plan gives the same numbers", {
  desk_with("harbours.csv")
  see(browser, "60 units, 16 periods", "#rail")
  see(browser, "parallel?", "#rail")
  expect_match(browser$text("#rail"), "sealed")
  browser$click("#open")
  see(browser, "3 estimates", "#rail")
  see(browser, "taken apart", "#rail")
  browser$run("document.querySelectorAll('details').forEach(e => { e.open = true })")
  browser$choose("#path_estimator", "imputation")
  browser$click("#add_path")
  see(browser, "4 estimates", "#rail")
  browser$click("#probed-3")
  see(browser, "1 probe", "#rail")
  browser$click("#make_report")
  see(browser, "All results", "#report")
  tables_made_again(browser, "harbours.csv")
  browser$choose("#kind", "study")
  see(browser, "What did", "#question")
  see(browser, "Score and overlap", "#rail")
})

test_that("a file of doses is asked about its dose, up to the curve; histories are seen as such", {
  desk_with("ice.csv")
  see(browser, "What did", "#question")
  browser$choose("#kind", "dose")
  see(browser, "were everybody given so much of", "#question")
  see(browser, "1,500 rows", "#rail")
  browser$run("document.querySelectorAll('details').forEach(e => { e.open = true })")
  browser$click("#add_design")
  see(browser, "1 of 1 design balanced", "#rail")
  browser$run("document.querySelectorAll('details').forEach(e => { e.open = true })")
  browser$choose("#design-1-density", "kernel")
  see(browser, "density: kernel", "#report pre")
  browser$click("#open")
  see(browser, "2 estimates", "#rail")
  see(browser, "average slope", "#effects")
  expect_match(browser$text("#report pre"), "dose: tonnes", fixed = TRUE)
  desk_with("seasons.csv")
  see(browser, "to follow a history of", "#question")
  see(browser, "9,214 rows", "#rail")
  expect_match(browser$text("#report pre"), "changing:\\s+- debt\\s+- catch")
})

test_that("work in progress can be stopped; a worker that is lost is replaced, and named when it is lost again", {
  desk <- start_desk(sprintf("file = %s", deparse(slow_plan())))
  withr::defer(desk$close())
  browser$go(desk$address)
  see(browser, "612 treated", "#rail")
  see(browser, "working", "#rail")
  browser$click("#stop")
  see(browser, "Stopped", "#status")
  browser$click("#go_on")
  children <- function() suppressWarnings(system2("pgrep", c("-P", desk$process$get_pid()), stdout = TRUE))
  lose <- function() {
    see(browser, "working", "#rail")
    await(function() length(children()) > 0L, "a worker")
    worker <- children()
    tools::pskill(as.integer(worker), tools::SIGKILL)
    worker
  }
  lost <- lose()
  await(function() length(setdiff(children(), lost)) > 0L, "another worker")
  await(function() grepl("failed|lost", browser$text("#rail")) || {
    lose()
    FALSE
  }, "the second loss to be told")
  see(browser, "lost twice", "#main")
  expect_true(desk$process$is_alive())
})

test_that("without the token, from another host or origin, nothing is shown and no socket stays open", {
  desk <- start_desk("demo = TRUE")
  withr::defer(desk$close())
  bare <- sub("[?].*", "", desk$address)
  status <- function(url, ...) {
    handle <- curl::new_handle()
    curl::handle_setheaders(handle, ...)
    curl::curl_fetch_memory(url, handle)$status_code
  }
  expect_identical(status(bare), 403L)
  expect_identical(status(paste0(bare, "?token=0000")), 403L)
  expect_identical(status(desk$address, Host = "example.org"), 403L)
  expect_identical(status(desk$address, Origin = "http://example.org"), 403L)
  expect_identical(status(desk$address), 200L)
  browser$go(desk$address)
  see(browser, "612 treated", "#rail")
  browser$run(sprintf("window.told = []; var s = new WebSocket('%swebsocket/');
    s.onopen = () => s.send(JSON.stringify({method: 'init', data: {'.clientdata_url_search': '?token=0000'}}));
    s.onmessage = m => window.told.push(m.data); s.onclose = () => { window.shut = true }", sub("http", "ws", bare)))
  await(function() isTRUE(browser$run("return window.shut === true")), "the socket to be closed")
  expect_false(any(grepl("612 treated|1,792|boat_length", unlist(browser$run("return window.told")))))
})

test_that("a column named as a script stays text", {
  folder <- withr::local_tempdir()
  data <- utils::read.csv(system.file("extdata", "crews.csv", package = "carefultwin"))[c("joined", "income", "boat_length", "port_size")]
  names(data)[4] <- "<script>window.stolen = 1</script>"
  utils::write.csv(data, file.path(folder, "odd.csv"), row.names = FALSE)
  writeLines(c("study: {data: odd.csv, treatment: joined, outcome: income,", sprintf("        covariates: [boat_length, \"%s\"]}", names(data)[4])),
             file.path(folder, "plan.yml"))
  desk <- start_desk(sprintf("file = %s", deparse(file.path(folder, "odd.csv"))))
  withr::defer(desk$close())
  browser$go(desk$address)
  see(browser, "612 treated", "#rail")
  see(browser, "<script>window.stolen", "#answer_question")
  expect_true(is.null(browser$run("return window.stolen")))
  browser$choose("#missing", "drop")
  see(browser, "missing: drop", "#report pre")
  expect_match(readLines(file.path(folder, "plan.yml")), "<script>", all = FALSE)
})
