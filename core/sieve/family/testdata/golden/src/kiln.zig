const std = @import("std");

fn fire(a: []const u8) u8 {
    return a[5];
}

test "cools" {
    try std.testing.expectEqual(@as(u8, 2), fire(&[_]u8{ 1, 2, 3, 4, 5, 6 }));
}

test "fires" {
    _ = fire("hot");
}
