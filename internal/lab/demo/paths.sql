CREATE TABLE trails (
    id int NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name varchar(100) NOT NULL,
    grade enum('easy', 'middling', 'hard') NOT NULL,
    length_km decimal(6,1) NOT NULL,
    marks set('blue stones', 'red dots', 'cairns', 'poles') NOT NULL,
    lon double NOT NULL,
    lat double NOT NULL,
    closed boolean NOT NULL DEFAULT false
);

CREATE TABLE stages (
    id int NOT NULL AUTO_INCREMENT PRIMARY KEY,
    trail_id int NOT NULL,
    no int NOT NULL,
    title varchar(100) NOT NULL,
    hours decimal(3,1) NOT NULL,
    KEY (trail_id, no)
);

CREATE TABLE outbox (
    id bigint NOT NULL AUTO_INCREMENT PRIMARY KEY,
    record varchar(64) NOT NULL,
    record_key varchar(500) NOT NULL,
    operation varchar(20) NOT NULL,
    written_at timestamp(6) NOT NULL DEFAULT current_timestamp(6)
);
