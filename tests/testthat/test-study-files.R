# Files: nothing is cut, replaced or mixed without being told, and nothing that was read is a guess.

# Runs R code in a process of its own whose files may not grow beyond so many KB, as on a full disk. What the code
# prints comes back.
with_small_files <- function(code, kilobytes = 64) {
  script <- withr::local_tempfile(fileext = ".R", lines = c("suppressMessages(library(carefultwin))", code))
  command <- sprintf("trap '' XFSZ; ulimit -f %d; '%s' --vanilla '%s' 2>&1", kilobytes, file.path(R.home("bin"), "Rscript"), script)
  suppressWarnings(system2("bash", c("-c", shQuote(command)), stdout = TRUE))
}

test_that("a full disk is an error and leaves the good file", {
  skip_on_os("windows")
  folder <- withr::local_tempdir()
  endings <- c("csv", "tsv", "xlsx", "rds", "parquet", "dta")
  files <- file.path(folder, paste0("data.", endings))
  small <- data.frame(a = 1:3, b = c("x", "y", "z"))
  for (file in files) write_units(small, file)
  before <- unname(tools::md5sum(files))
  code <- c(
    "set.seed(1); big <- data.frame(a = rnorm(2e5), b = rnorm(2e5))",
    sprintf("r <- tryCatch({write_units(big, '%s'); 'written'}, error = function(e) class(e)[1]); cat(r, '\\n')", files),
    "g <- describe_groups(frame_study(crews, 'joined', 'income', ~ boat_length + crew_size))",
    sprintf("r <- tryCatch({export_table(g, '%s'); 'written'}, error = function(e) class(e)[1]); cat(r, '\\n')",
            file.path(folder, "table.xlsx"))
  )
  out <- with_small_files(code, 1)
  expect_identical(trimws(out[grepl("written|error", out)]), rep("twin_error_file", 7), label = paste(out, collapse = " | "))
  expect_identical(unname(tools::md5sum(files)), before)
  expect_setequal(list.files(folder, all.files = TRUE, no.. = TRUE), basename(files))
})

test_that("what is written is seen to be whole: counts of lines, quotes, breaks within cells and empty ends", {
  folder <- withr::local_tempdir()
  data <- data.frame(a = c("x\ny", "say \"hi\"", "=1+1", NA), b = c(1, 2, 3, NA), check.names = FALSE)
  names(data)[2] <- "two\nlines"
  for (ending in c("csv", "tsv", "parquet", "rds")) {
    file <- write_units(data, file.path(folder, paste0("d.", ending)))
    back <- read_units(file, trusted = TRUE)
    expect_identical(names(back), names(data))
    expect_equal(back$a, if (ending %in% c("csv", "tsv")) sub("^=", "'=", data$a) else data$a)
  }
  expect_identical(dim(read_units(write_units(data, file.path(folder, "d.xlsx")))), c(3L, 2L))  # the last row is empty
  cut <- file.path(folder, "cut.csv")
  writeLines(c("a,b", "1,2"), cut)
  expect_true(holds_table(cut, data.frame(a = 1, b = 2)))
  expect_false(holds_table(cut, data.frame(a = 1:2, b = 2)))
  cat("a,b\n1,2", file = cut)
  expect_false(holds_table(cut, data.frame(a = 1, b = 2)))
})

test_that("links are written through, protected files stay", {
  skip_on_os("windows")
  folder <- withr::local_tempdir()
  real <- file.path(folder, "real.csv")
  link <- file.path(folder, "link.csv")
  second <- file.path(folder, "second.csv")
  write_units(data.frame(a = 1, b = 2), real)
  file.symlink("real.csv", link)
  file.symlink(link, second)
  write_units(data.frame(a = 3:4, b = 5), second)
  expect_identical(read_units(real)$a, 3:4)
  expect_identical(unname(Sys.readlink(link)), "real.csv")
  ahead <- file.path(folder, "ahead.csv")
  file.symlink("not-yet.csv", ahead)
  write_units(data.frame(a = 3:4, b = 5), ahead)
  expect_true(file.exists(file.path(folder, "not-yet.csv")))
  Sys.chmod(real, "0444")
  expect_error(write_units(data.frame(a = 9, b = 9), real), "protected from writing", class = "twin_error_file")
  expect_error(write_units(data.frame(a = 9, b = 9), link), "protected from writing", class = "twin_error_file")
  expect_identical(read_units(real)$a, 3:4)
})

test_that("lines unlike the others, NUL bytes and names that repeat are errors which say where", {
  file <- withr::local_tempfile(fileext = ".csv")
  rows <- sprintf("%d,%d,x", 1:200, 1:200)
  write <- function(...) writeLines(c("a,b,c", ...), file)
  write(rows, "1,2,x,4", rep("5,6,x", 1800))
  found <- expect_error(read_units(file), "Line 202 has 4 fields where the lines above have 3", class = "twin_error_file")
  expect_identical(found$line, 202)
  write(rows, "1,2", rows)
  expect_error(read_units(file), "Line 202", class = "twin_error_file")
  write(rows, "1,2")
  expect_error(read_units(file), "Line 202", class = "twin_error_file")
  writeBin(c(charToRaw("a,b\n1,2\n3,"), as.raw(0), charToRaw("4\n")), file)
  expect_error(read_units(file), "Line 3 holds a NUL byte", class = "twin_error_file")
  writeLines(c("a,b,a", "1,2,3"), file)
  expect_error(read_units(file), "\"a\" stands for several columns", class = "twin_error_file")
  writeLines(c("a,b", "\"say \"\"hi\"\"\",1", "\"x, y\",2"), file)
  expect_identical(read_units(file)$a, c("say \"hi\"", "x, y"))
})

test_that("rds files are read when trusted, and must hold a table", {
  file <- withr::local_tempfile(fileext = ".rds")
  saveRDS(data.frame(a = 1:2, b = 3:4), file)
  expect_error(read_units(file), "can run code", class = "twin_error_file")
  expect_identical(read_units(file, trusted = TRUE)$b, 3:4)
  saveRDS(structure(list(a = 1:3, b = 1:2), class = "data.frame", row.names = 1:3), file)
  expect_error(read_units(file, trusted = TRUE), "differ in length: \"b\"", class = "twin_error_file")
  folder <- plan_folder(function(lines) sub("data.csv", "data.rds", lines, fixed = TRUE))
  result <- twin("run", file.path(folder, "plan.yml"))
  expect_identical(result$status, 2L)
  expect_match(paste(result$err, collapse = " "), "takes no 'data.rds'")
})

test_that("results change places whole; what else lies there stays, drafts of dead processes go", {
  folder <- withr::local_tempdir()
  out <- file.path(folder, "results")
  deliver_files <- function(...) {
    names <- c(...)
    utils::capture.output(deliver(out, function(draft) {
      make_folder(file.path(draft, "tables"))
      for (name in names) writeLines(paste(names, collapse = " "), file.path(draft, name))
    }, "Tables:"))
  }
  deliver_files("report.html", "tables/first.csv")
  writeLines("mine", file.path(out, "notes.txt"))
  dir.create(file.path(out, "tables", "own"))
  writeLines("mine too", file.path(out, "tables", "own", "more.txt"))
  dead <- file.path(folder, sprintf(".twin-%d-abc123", 2^22 + 7))
  own <- file.path(folder, sprintf(".twin-%d-abc123", Sys.getpid()))
  for (draft in c(dead, own)) dir.create(draft)
  deliver_files("report.html", "tables/second.csv")
  expect_setequal(list.files(out, recursive = TRUE), c("report.html", "notes.txt", "tables/second.csv", "tables/own/more.txt"))
  expect_identical(readLines(file.path(out, "tables", "own", "more.txt")), "mine too")
  expect_identical(readLines(file.path(out, "report.html")), "report.html tables/second.csv")
  expect_false(dir.exists(dead))
  expect_true(dir.exists(own))
  # a run that fails leaves the old results and no draft
  expect_error(deliver(out, function(draft) {
    make_folder(draft)
    stop("no")
  }, ""), "no")
  expect_identical(readLines(file.path(out, "report.html")), "report.html tables/second.csv")
  expect_identical(list.files(folder, "^[.]twin", all.files = TRUE), basename(own))
})
