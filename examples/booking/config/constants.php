<?php
// Where tickets are collected.
define('TICKET_DESK', 'http://booking.ferries.example/desk');
