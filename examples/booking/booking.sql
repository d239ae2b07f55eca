-- MariaDB dump
CREATE TABLE `settings` (
  `name` varchar(64) NOT NULL,
  `value` longtext NOT NULL,
  PRIMARY KEY (`name`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;
INSERT INTO `settings` VALUES
('home','http://booking.ferries.example/'),
('menu','a:2:{s:10:\"Überfahrt\";s:40:\"http://booking.ferries.example/crossings\";s:5:\"Fares\";s:36:\"http://booking.ferries.example/fares\";}');
CREATE TABLE `bookings` (
  `id` int NOT NULL AUTO_INCREMENT PRIMARY KEY,
  `passenger` varchar(100) NOT NULL,
  `crossing` datetime NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;
INSERT INTO `bookings` VALUES (1,'Ada Quay','2026-05-01 08:15:00'),(2,'Bob Pier','2026-05-01 09:45:00');
