-- What replicas used, by the kernel's figures: one row a day, replica and release.
CREATE TABLE usage (
    day       date   NOT NULL DEFAULT current_date,
    workload  text   NOT NULL,
    replica   text   NOT NULL,
    release   bigint NOT NULL,
    needed    bigint NOT NULL,
    peak      bigint NOT NULL,
    memory    bigint NOT NULL,
    kills     bigint NOT NULL,
    held_back bigint NOT NULL,
    watched   bigint NOT NULL,
    processes bigint NOT NULL,
    PRIMARY KEY (day, replica, release)
);
CREATE INDEX usage_of_a_workload ON usage (workload, day);
