-- What was asked of each workload, minute by minute: requests that were open at once and requests a second, on average. Only minutes
-- in which anything was asked have a row; the row without a workload says that control looked in that minute.
CREATE TABLE demand (
    workload text NOT NULL,
    minute timestamptz NOT NULL,
    open real NOT NULL,
    rate real NOT NULL,
    PRIMARY KEY (workload, minute)
);
