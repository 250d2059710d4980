using System;
using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;
using NodaTime;

#nullable disable

namespace Imbrek.Data.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(ImbrekContext))]
    [Migration("20261126232150_ReplicaNotes")]
    public class ReplicaNotes : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "replica_notes",
                columns: table => new
                {
                    replica = table.Column<string>(type: "text", nullable: false),
                    held_up_by = table.Column<string>(type: "text", nullable: true),
                    unusable = table.Column<string>(type: "text", nullable: true),
                    since = table.Column<Instant>(type: "timestamp with time zone", nullable: true),
                    held_by = table.Column<string>(type: "text", nullable: true),
                    seeding_run = table.Column<Guid>(type: "uuid", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("pk_replica_notes", x => x.replica);
                });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "replica_notes");
        }
    }
}
